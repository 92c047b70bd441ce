"""The snapshot's tables, defined once: DuckDB's definition and Arrow's are made from these.

Addresses are normalised, numbered once and referred to by number everywhere else; texts as written
stand beside them where they are evidence. What was decided of the facts is kept too (`DECIDED`), for
one set of crawlers and one intent at a time: the value `decided` of `meta` says for which.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from typing import Any, NamedTuple

VERSION = 8

TABLES: dict[str, dict[str, str]] = {
    # JSON values by name: schema, source, started, finished, complete, crawlers ...
    "meta": {"name": "VARCHAR", "value": "VARCHAR"},
    # every address met; `path` has the query; `site` says whether its host is audited
    "address": {"id": "INTEGER", "origin": "VARCHAR", "path": "VARCHAR", "site": "BOOLEAN"},
    # one answer an address; status null: none came (`error` says why); `target` where it redirects to
    "answer": {
        "address": "INTEGER", "status": "SMALLINT", "error": "VARCHAR", "media_type": "VARCHAR", "target": "INTEGER",
        "location": "VARCHAR", "octets": "BIGINT", "cut": "BOOLEAN", "last_modified": "VARCHAR", "fetched": "VARCHAR",
        "file": "VARCHAR",
    },
    # one HTML page read; `refresh` is the target of a zero-second refresh; `own` is the text without navigation and the
    # like: `text_hash`, `sketch` and `bag` (its words in any order) are its fingerprints, `marks` are `Mark` flags, `types`
    # of structured data; `scripts` is a digest of the ones that run on it, null where none can
    "page": {
        "address": "INTEGER", "title": "VARCHAR", "base": "VARCHAR", "charset": "VARCHAR", "head_end": "VARCHAR",
        "head_end_line": "INTEGER", "refresh": "INTEGER", "refresh_line": "INTEGER", "refresh_text": "VARCHAR",
        "text_hash": "BIGINT", "text_length": "INTEGER", "excerpt": "VARCHAR", "problem": "VARCHAR",
        "heading": "VARCHAR", "own_words": "INTEGER", "own_links": "INTEGER", "sketch": "BLOB", "marks": "INTEGER",
        "types": "VARCHAR", "modified": "VARCHAR", "scripts": "BIGINT", "bag": "BIGINT",
    },
    # one robots tag (origin 0) or X-Robots-Tag stretch (1); scope empty: for all crawlers
    "directive": {
        "address": "INTEGER", "origin": "UTINYINT", "scope": "VARCHAR", "noindex": "BOOLEAN", "nofollow": "BOOLEAN",
        "tokens": "VARCHAR[]", "fault_texts": "VARCHAR[]", "faults": "VARCHAR[]", "expires": "VARCHAR", "void": "VARCHAR",
        "in_body": "BOOLEAN", "line": "INTEGER", "text": "VARCHAR",
    },
    "canonical": {
        "address": "INTEGER", "origin": "UTINYINT", "href": "VARCHAR", "target": "INTEGER", "fault": "VARCHAR",
        "in_body": "BOOLEAN", "line": "INTEGER", "text": "VARCHAR",
    },
    # links of one page that share target and flags are one row; rows of one source stand together
    "link": {"source": "INTEGER", "target": "INTEGER", "flags": "UTINYINT", "line": "INTEGER", "text": "VARCHAR"},
    "resource": {"source": "INTEGER", "target": "INTEGER", "kind": "VARCHAR", "line": "INTEGER", "text": "VARCHAR"},
    "alternate": {"source": "INTEGER", "target": "INTEGER", "kind": "VARCHAR", "line": "INTEGER", "text": "VARCHAR"},
    # anchors that do not do what they seem to: kind `rel` (token slip), `href` (no address) or `hash` (a view behind `#/`); what
    # else markup shows: kind `password`, and `search` (a search form: where it leads, and its parameter)
    "slip": {"source": "INTEGER", "kind": "VARCHAR", "what": "VARCHAR", "line": "INTEGER", "text": "VARCHAR"},
    # what a page answered when asked again under a crawler's name, where that differs; `what`: status, robots,
    # canonical, links; said twice, so that it is no accident
    "as_crawler": {
        "crawler": "VARCHAR", "address": "INTEGER", "what": "VARCHAR", "ours": "VARCHAR", "theirs": "VARCHAR",
    },
    # what a rendering crawler sees of a page, for the crawlers of `mask` (a bit each, in the order of `meta.crawlers`):
    # `outcome` ok, empty, error, none; `served_words` and `served_error` of the answer that the look began with; `leads_to`
    # where a script leads at once; `visit` the outcome after a visit to the start page; `errors` of its scripts; `grp` is
    # its place in the value `rendered` of `meta`
    "render": {
        "address": "INTEGER", "mask": "UBIGINT", "outcome": "VARCHAR", "why": "VARCHAR", "title": "VARCHAR",
        "text_hash": "BIGINT", "sketch": "BLOB", "own_words": "INTEGER", "excerpt": "VARCHAR", "served_words": "INTEGER",
        "served_error": "BOOLEAN", "leads_to": "INTEGER", "errors": "INTEGER", "visit": "VARCHAR", "links": "INTEGER",
        "grp": "INTEGER", "picture": "BLOB",
    },
    "render_directive": {
        "address": "INTEGER", "mask": "UBIGINT", "scope": "VARCHAR", "noindex": "BOOLEAN", "nofollow": "BOOLEAN",
        "tokens": "VARCHAR[]", "in_body": "BOOLEAN", "text": "VARCHAR",
    },
    "render_canonical": {
        "address": "INTEGER", "mask": "UBIGINT", "href": "VARCHAR", "target": "INTEGER", "fault": "VARCHAR",
        "in_body": "BOOLEAN", "text": "VARCHAR",
    },
    # links that a page gets in a very tall window, after it was scrolled or pressed, or that its scripts remove (`how` tall,
    # scroll, click, lost);
    # the ones that they add at once are in `link`
    "render_link": {"source": "INTEGER", "target": "INTEGER", "flags": "UTINYINT", "how": "VARCHAR", "text": "VARCHAR"},
    # what a page asked for and did not get: `result` refused, failed, unknown, withheld, capped; `mask` as in `render`
    "render_request": {
        "source": "INTEGER", "mask": "UBIGINT", "target": "INTEGER", "kind": "VARCHAR", "result": "VARCHAR",
        "status": "SMALLINT", "how": "VARCHAR",
    },
    # one robots.txt an authority; `hops` are the addresses redirected through
    "robots": {
        "origin": "VARCHAR", "status": "SMALLINT", "error": "VARCHAR", "media_type": "VARCHAR", "hops": "VARCHAR[]",
        "final": "VARCHAR", "body": "BLOB", "cut": "BOOLEAN", "role": "VARCHAR", "known": "BOOLEAN", "file": "VARCHAR",
    },
    # what robots.txt of the audited host answered when asked under a crawler's name
    "robots_as": {"crawler": "VARCHAR", "status": "SMALLINT", "body": "BLOB"},
    # one sitemap file; `via` says how it was found: robots, index, usual, given
    "sitemap": {
        "id": "INTEGER", "url": "VARCHAR", "via": "VARCHAR", "parent": "INTEGER", "announced_by": "VARCHAR",
        "announced_line": "INTEGER", "status": "SMALLINT", "fetch_error": "VARCHAR", "kind": "VARCHAR", "root": "VARCHAR",
        "namespace": "VARCHAR", "octets": "BIGINT", "entries": "INTEGER", "gzipped": "BOOLEAN", "error": "VARCHAR",
        "line": "INTEGER", "col": "INTEGER", "final": "VARCHAR", "like_missing": "BOOLEAN",
    },
    "entry": {
        "sitemap": "INTEGER", "address": "INTEGER", "loc": "VARCHAR", "line": "INTEGER", "col": "INTEGER",
        "lastmod": "VARCHAR", "changefreq": "VARCHAR", "priority": "VARCHAR", "fault": "VARCHAR",
    },
    # files of other hosts that an index lists: they are not read
    "elsewhere": {"sitemap": "INTEGER", "loc": "VARCHAR", "line": "INTEGER"},
    # what a URL that cannot exist on an origin answered, or in one of its first folders
    "probe": {
        "origin": "VARCHAR", "folder": "VARCHAR", "url": "VARCHAR", "status": "SMALLINT", "final": "VARCHAR", "final_status": "SMALLINT",
        "text_hash": "BIGINT", "title": "VARCHAR", "sketch": "BLOB",
    },
    # addresses given beside the source
    "given": {"address": "INTEGER", "why": "VARCHAR"},
    # links counted by target when gathering ended
    "inlink": {"target": "INTEGER", "followed": "INTEGER", "unfollowed": "INTEGER"},
}  # fmt: skip

OWN = {
    **dict.fromkeys(("answer", "page", "directive", "canonical", "as_crawler"), "address"),
    **dict.fromkeys(("render", "render_directive", "render_canonical"), "address"),
    **dict.fromkeys(("link", "resource", "alternate", "slip", "render_link", "render_request"), "source"),
}
"""The tables with facts of one address, each with the column that holds the address's number."""

DECIDED: dict[str, dict[str, str]] = {
    # one row per URL: what is known of it, what it is, what is wanted of it; masks have a bit a crawler
    "fact": {
        "id": "INTEGER", "origin": "VARCHAR", "path": "VARCHAR", "site": "BOOLEAN", "known": "BOOLEAN", "read": "BOOLEAN",
        "status": "SMALLINT", "error": "VARCHAR", "media_type": "VARCHAR", "ended": "VARCHAR", "folds_to": "INTEGER",
        "fold_how": "VARCHAR", "folds_into": "INTEGER", "barred": "UBIGINT", "noindex": "UBIGINT", "nofollow": "UBIGINT",
        "listed": "BOOLEAN", "named": "BOOLEAN", "start": "BOOLEAN", "followed": "INTEGER", "unfollowed": "INTEGER",
        "html": "BOOLEAN", "types": "VARCHAR", "marks": "INTEGER", "own_words": "INTEGER",
        "own_links": "INTEGER", "text_hash": "BIGINT", "variant": "BOOLEAN", "matches_missing": "BOOLEAN", "telling": "BOOLEAN",
        "kind_rule": "UTINYINT", "closed": "BOOLEAN", "kind": "VARCHAR", "entry": "INTEGER", "tail": "VARCHAR",
        "want": "VARCHAR", "hidden": "UBIGINT", "open": "UBIGINT",
    },
    # where an address stands among the others; `clicks` from the start page, null where no followed links lead
    "place": {"address": "INTEGER", "section": "VARCHAR", "clicks": "INTEGER"},
    # what decided the state of an address that is not open, for the crawlers of the mask; `file` is the file or page,
    # `kind` one of `REASONS`; `rank` orders several
    "reason": {
        "address": "INTEGER", "mask": "UBIGINT", "rank": "UTINYINT", "kind": "VARCHAR", "file": "VARCHAR", "line": "INTEGER",
        "text": "VARCHAR",
    },
    # which crawlers a tag's or header's scope holds for
    "scope": {"name": "VARCHAR", "mask": "UBIGINT"},
    "cause": {
        "id": "INTEGER", "name": "VARCHAR", "check_id": "VARCHAR", "cls": "VARCHAR", "severity": "UTINYINT", "section": "VARCHAR",
        "sections": "VARCHAR", "count": "INTEGER", "summary": "VARCHAR", "mend": "VARCHAR", "share": "DOUBLE", "others": "VARCHAR[]",
        "relation": "VARCHAR", "follows": "VARCHAR", "consequence": "BOOLEAN", "consequences": "INTEGER", "now": "VARCHAR",
        "instead": "VARCHAR", "proof": "VARCHAR",
    },
    "finding": {
        "id": "INTEGER", "cause": "VARCHAR", "check_id": "VARCHAR", "cls": "VARCHAR", "severity": "UTINYINT", "url": "VARCHAR",
        "crawlers": "VARCHAR[]", "message": "VARCHAR", "also": "VARCHAR[]", "section": "VARCHAR", "accepted": "VARCHAR",
        "until": "VARCHAR", "follows": "VARCHAR", "consequence": "BOOLEAN",
    },
    "shown": {
        "finding": "INTEGER", "rank": "UTINYINT", "kind": "VARCHAR", "file": "VARCHAR", "line": "INTEGER", "text": "VARCHAR",
    },
}  # fmt: skip
"""Decided rows. They can be made again from the facts, and are whenever what they rest on has changed."""

OLDEST = 6
"""The oldest format that is read."""


class Format(NamedTuple):
    """The tables of a file of one format."""

    facts: Mapping[str, Mapping[str, str]]
    decided: Mapping[str, Mapping[str, str]]


def _before_8() -> Format:
    """Causes had neither relations nor consequences."""
    later = ("relation", "follows", "consequence", "consequences", "now", "instead", "proof")
    cause, finding = (
        {name: kind for name, kind in DECIDED[table].items() if name not in later} for table in ("cause", "finding")
    )
    return Format(TABLES, {**DECIDED, "cause": cause, "finding": finding})


def _before_7() -> Format:
    """Causes were numbered in order of harm."""
    had = _before_8().decided
    cause = {name: kind for name, kind in had["cause"].items() if name != "name"}
    return Format(TABLES, {**had, "cause": cause, "finding": {**had["finding"], "cause": "INTEGER"}})


FORMATS: dict[int, Format] = {6: _before_7(), 7: _before_8(), 8: Format(TABLES, DECIDED)}
"""By number; a format's facts never change, what it lacks of later ones is unknown."""

REASONS = ("robots", "tag", "header", "canonical", "redirect", "status")
"""What can decide a state."""


@cache
def arrow(table: str) -> Any:
    """The Arrow schema of a table; anyone who writes no rows does not load the library."""
    from indrel.base.arrow import pa

    kinds = {
        "INTEGER": pa.int32(), "BIGINT": pa.int64(), "SMALLINT": pa.int16(), "UTINYINT": pa.uint8(), "BOOLEAN": pa.bool_(),
        "VARCHAR": pa.string(), "BLOB": pa.binary(), "VARCHAR[]": pa.list_(pa.string()), "UBIGINT": pa.uint64(),
        "DOUBLE": pa.float64(),
    }  # fmt: skip
    return pa.schema([(name, kinds[kind]) for name, kind in {**TABLES, **DECIDED}[table].items()])


@cache
def place(table: str, column: str) -> int:
    """Where a column stands in a table's rows."""
    return list({**TABLES, **DECIDED}[table]).index(column)


def migration(home: str, version: int) -> list[str]:
    """What brings a file of an older format to today's: facts that it lacks become null, what was decided is forgotten."""
    had = FORMATS[version]
    found = [
        f"ALTER TABLE {home}.{table} ADD COLUMN {column} {kind}"
        for table, columns in TABLES.items()
        if table in had.facts
        for column, kind in columns.items()
        if column not in had.facts[table]
    ]
    found += [f"DROP TABLE {home}.{table}" for table in had.decided]
    missing = {table: columns for table, columns in TABLES.items() if table not in had.facts}
    return found + _creations(home, {**missing, **DECIDED})


def stand_ins(version: int) -> list[str]:
    """What lets a file of an older format be read as one of today's, as views beside it that change nothing in it."""
    had = FORMATS[version].facts
    found = []
    for table, columns in TABLES.items():
        absent = [c for c in columns if c not in had.get(table, {})]
        if absent:
            chosen = ", ".join(f"NULL::{kind} AS {c}" if c in absent else c for c, kind in columns.items())
            source = f"FROM snap.main.{table}" if table in had else "WHERE false"
            found.append(f"CREATE TEMP VIEW {table} AS SELECT {chosen} {source}")
    return found


def create_statements(home: str) -> list[str]:
    """What makes the tables in a schema."""
    return _creations(home, {**TABLES, **DECIDED})


def _creations(home: str, tables: Mapping[str, Mapping[str, str]]) -> list[str]:
    return [
        f"CREATE TABLE {home}.{table} ({', '.join(f'{name} {kind}' for name, kind in columns.items())})"
        for table, columns in tables.items()
    ]
