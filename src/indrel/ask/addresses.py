"""The addresses of a snapshot as rows: one table of columns for the terminal, CSV, XLSX, JSON and the library."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from indrel.base.errors import UsageError
from indrel.base.plain import UNSAFE_FIELD, field
from indrel.base.sqltext import identifier, quoted, quoted_list
from indrel.checks import checks, verdict_of
from indrel.checks.headline import exposed_pages, lost_pages, wanted_pages
from indrel.core.intent import KIND_NAMES, Match
from indrel.core.model import CheckClass, Severity, State, Want
from indrel.core.page.tokens import CHOICE, nearest
from indrel.decide.kinds import ASSET_SQL, RULES, why
from indrel.decide.site import Site
from indrel.decide.sitemaps import LEFT_OUT
from indrel.snapshot.schema import REASONS

FILE = "file"
"""The kind of what a finding is about that is no page: robots.txt, a sitemap, what another host serves."""

REACHED_BY = {"unfollowed": "followed + unfollowed > 0", "nothing": "followed + unfollowed = 0"}
"""How an address is reached that no followed links from the start page lead to."""

HAS = {"noindex": "f.noindex > 0", "nofollow": "f.nofollow > 0"}
"""What a page's tags and headers tell some crawler, whatever its state."""


@dataclass(frozen=True, slots=True)
class By:
    """What decided a state, for some crawlers; `where` is a file or address."""

    crawlers: tuple[str, ...]
    kind: str
    where: str
    line: int | None
    text: str

    @property
    def place(self) -> str:
        return f"{self.where}:{self.line}" if self.line else self.where

    def as_json(self) -> dict[str, object]:
        return {
            "crawlers": list(self.crawlers), "kind": self.kind, "where": self.where, "line": self.line, "text": self.text,
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class AddressRow:
    """All that is reported of one address. `by` is what decided its states, `checks` the checks that found it."""

    url: str
    kind: str
    section: str
    want: str
    stated: bool
    states: dict[str, str]
    status: int | None
    folds_into: str | None
    clicks: int | None = None
    kind_because: str = ""
    by: tuple[By, ...] = ()
    checks: tuple[str, ...] = ()
    media_type: str | None = None
    listed: bool = False
    followed: int = 0
    unfollowed: int = 0
    rendered: str | None = None
    """What came of looking at it with a browser: ok, empty, error, none; None where that was not done."""

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url,
            "kind": self.kind,
            "section": self.section,
            "want": {"value": self.want, "stated": self.stated},
            "states": self.states,
            "status": self.status,
            "folds_into": self.folds_into,
            "clicks": self.clicks,
            "kind_because": self.kind_because,
            "by": [b.as_json() for b in self.by],
            "checks": list(self.checks),
            "listed": self.listed,
            "followed": self.followed,
            "unfollowed": self.unfollowed,
            "rendered": self.rendered,
        }


Value = str | int | None


def _each(part: str) -> str:
    """One part of what decided the states, each said once, as SQL over `by`."""
    told = f'list_transform("by", lambda x: {part})'
    return f"array_to_string(list_filter({told}, lambda t, i: list_position({told}, t) = i), '; ')"


_BECAUSE = f"coalesce([{quoted_list(rule.because for rule in RULES)}][kind_rule + 1], {quoted(why(len(RULES)))})"
_WHY = f"CASE WHEN kind = '{FILE}' THEN '' ELSE {_BECAUSE} END"

COLUMNS: dict[str, str] = {
    "url": "url",
    "kind": "kind",
    "section": "section",
    "want": "want",
    "stated": "CASE WHEN stated THEN 'yes' ELSE 'no' END",
    "status": "status",
    "folds_into": "folds_into",
    "clicks": "clicks",
    "by": _each("x[2]"),
    "where": _each("x[3] || CASE WHEN x[4] > 0 THEN ':' || x[4] ELSE '' END"),
    "text": _each("x[5]"),
    "checks": "array_to_string(checks, ' ')",
    "listed": "CASE WHEN listed THEN 'yes' ELSE 'no' END",
    "followed": "followed",
    "unfollowed": "unfollowed",
    "kind_because": _WHY,
    "rendered": "rendered",
}
"""Every column by name, as SQL over `address_sql`, but those of the crawlers' states, which stand behind `stated`."""

HOSTILE = ("section", "folds_into", "where", "text")
"""Columns with texts of the site; an address is in its normal form, the others are our own words."""


def columns_of(crawlers: Sequence[str], chosen: Sequence[str] | None = None) -> dict[str, str]:
    """The columns asked for, in that order; all, with a state a crawler, where none are. Raises UsageError."""
    found: dict[str, str] = {}
    for name, column in COLUMNS.items():
        found[name] = column
        if name == "stated":
            found |= {token: identifier(token) for token in crawlers}
    if not chosen:
        return found
    names = _known_words(chosen, [*found, "state"], "column")
    return {n: found[n] for name in names for n in (crawlers if name == "state" else [name])}


def _known_words(given: Sequence[str] | None, words: Iterable[str], what: str) -> list[str]:
    known = list(words)
    for word in given or ():
        if word not in known:
            near = nearest(word, known, CHOICE)
            hint = f". Did you mean {near}?" if near else f": choose one of {' '.join(known)}"
            raise UsageError(f"there is no {what} {word!r}{hint}")
    return list(given or ())


@dataclass(frozen=True)
class Filters:
    """Which addresses are asked for; of several values of one filter any will do, all filters must hold."""

    states: Sequence[str] = ()
    wants: Sequence[str] = ()
    kinds: Sequence[str] = ()
    sections: Sequence[str] = ()
    checks: Sequence[str] = ()
    by: Sequence[str] = ()
    reached_by: str | None = None
    unreached: bool = False
    left_out: bool = False
    """Only pages that the sitemaps leave out, though they list others like them."""
    classes: Sequence[str] = ()
    """Classes of the serious findings, as the first line counts them."""
    lost: bool = False
    exposed: bool = False
    """Only the pages that the first line counts as lost, or as open though they are not wanted."""
    has: Sequence[str] = ()
    matches: Sequence[str] = ()
    """Paths with query, `*` for any run of characters, as in the intent file; `//host/path` names a host."""

    def sql(self, site: Site) -> tuple[str, list[Any]]:
        """A condition over `f` (fact), `p` (place) and its parameters. Raises UsageError for words that are none."""
        _known_words(self.states, [s.value for s in State], "state")
        _known_words(self.wants, [w.value for w in Want], "want")
        _known_words(self.kinds, KIND_NAMES, "kind")
        if self.checks:  # the catalogue is loaded by the caller for it
            _known_words(self.checks, checks(), "check")
        _known_words(self.by, REASONS, "reason")
        _known_words(self.classes, [c.value for c in CheckClass], "class")
        _known_words(self.has, HAS, "directive")
        if self.sections:
            here = [
                s
                for (s,) in site.rows(
                    "SELECT DISTINCT section FROM place JOIN fact ON id = address WHERE known ORDER BY 1"
                )
            ]
            _known_words(self.sections, here, "section")
        conditions, values = ["f.known"], []
        states = site.states_sql
        for given, condition in (
            (self.states, f"list_has_any([{states}], ?)"), (self.wants, "list_contains(?, f.want)"),
            (self.kinds, "list_contains(?, f.kind)"), (self.sections, "list_contains(?, p.section)"),
            (self.by, "f.id IN (SELECT address FROM reason WHERE list_contains(?, kind))"),
            (self.checks, f"f.origin || f.path IN (SELECT address FROM ({SPOKEN_OF}) WHERE list_contains(?, check_id))"),
            (self.classes, f"f.origin || f.path IN (SELECT address FROM ({SPOKEN_OF}) WHERE grave AND list_contains(?, cls))"),
        ):  # fmt: skip
            if given:
                conditions.append(condition)
                values.append(list(given))
        page = f"f.id NOT IN (SELECT id FROM fact WHERE {ASSET_SQL})"  # what a page loads needs no link
        if self.reached_by is not None:
            _known_words([self.reached_by], REACHED_BY, "way to be reached")
            conditions.append(f"p.clicks IS NULL AND NOT f.start AND {page} AND {REACHED_BY[self.reached_by]}")
        elif self.unreached:
            conditions.append(f"p.clicks IS NULL AND {page}")
        if self.left_out:
            conditions.append(LEFT_OUT)
        conditions += [f"f.id IN ({lost_pages(site)})"] if self.lost else []
        conditions += [f"f.id IN ({exposed_pages(site)})"] if self.exposed else []
        conditions += [HAS[word] for word in self.has]
        if patterns := [Match(text) for text in self.matches]:
            for fault in filter(None, (one.fault for one in patterns)):
                raise UsageError(fault)
            conditions.append(f"f.id IN (SELECT id FROM fact WHERE {' OR '.join(one.sql() for one in patterns)})")
        return " AND ".join(conditions), values


SPOKEN_OF = f"""SELECT coalesce(w.address, d.url) AS address, d.check_id, d.cls,
    d.severity >= {Severity.FIX.value} AND d.accepted IS NULL AS grave FROM (SELECT * FROM finding WHERE NOT consequence) d LEFT JOIN (
    SELECT DISTINCT e.loc, a.origin || a.path AS address FROM entry e JOIN address a ON a.id = e.address
    WHERE e.loc IN (SELECT url FROM finding) AND e.loc <> a.origin || a.path) w ON w.loc = d.url"""
"""The URL and the check of each finding that counts: a sitemap entry is kept as written, and means the URL that it is once normalised."""

SORTS = {
    "url": "f.origin, f.path", "section": "p.section, f.origin, f.path", "kind": "f.kind, f.origin, f.path",
    "status": "f.status, f.origin, f.path", "clicks": "p.clicks NULLS LAST, f.origin, f.path",
    "links": "f.followed DESC, f.origin, f.path", "where": "b.first, f.origin, f.path",
}  # fmt: skip


def address_sql(site: Site, condition: str = "f.known", sort: str | None = None) -> str:
    """Addresses with all that is reported of them: `id`, `url`, `kind_rule`, columns, a state a crawler, `by` and `checks`.

    In order of the addresses, the main host's first, if nothing else is asked for.
    """
    states = ", ".join(f"{site.state_sql(i)} AS {identifier(c.token)}" for i, c in enumerate(site.crawlers))
    looked = site.holds("render")
    order = SORTS[sort] if sort else f"f.origin <> {quoted(site.base_origin)}, f.origin, f.path"
    return f"""SELECT f.id, f.origin || f.path AS url, f.kind_rule, f.kind, p.section, f.want, f.entry IS NOT NULL AS stated, f.status,
        f.media_type, coalesce(t.origin || t.path, d.origin || d.path) AS folds_into, f.listed, f.followed, f.unfollowed, p.clicks,
        b.by, c.checks, {"r.outcome" if looked else "NULL"} AS rendered, {states}
    FROM fact f JOIN place p ON p.address = f.id LEFT JOIN address t ON t.id = f.folds_into LEFT JOIN address d ON d.id = f.folds_to
    LEFT JOIN (SELECT address, list((mask, kind, file, line, text) ORDER BY rank) AS by, min(file || ':' || coalesce(line, 0)) AS first
        FROM reason GROUP BY address) b ON b.address = f.id
    LEFT JOIN (SELECT address, list(DISTINCT check_id ORDER BY check_id) AS checks FROM ({SPOKEN_OF}) GROUP BY address) c
        ON c.address = f.origin || f.path
    {f"LEFT JOIN ({_WORST}) r ON r.address = f.id" if looked else ""}
    WHERE {condition} ORDER BY {order}"""


_WORST = """SELECT address, CASE max(CASE outcome WHEN 'ok' THEN 0 WHEN 'empty' THEN 1 WHEN 'error' THEN 2 ELSE 3 END)
    WHEN 0 THEN 'ok' WHEN 1 THEN 'empty' WHEN 2 THEN 'error' ELSE 'none' END AS outcome FROM render GROUP BY address"""


def _files_sql(site: Site, filters: Filters) -> list[tuple[str, list[Any]]]:
    """What findings are about that is no known URL, in the columns of `address_sql`, where findings alone are asked for."""
    asked = [("list_contains(?, check_id)", filters.checks), ("grave AND list_contains(?, cls)", filters.classes)]
    asked = [pair for pair in asked if pair[1]]
    if not asked or replace(filters, checks=(), classes=()) != Filters():
        return []
    states = ", ".join(f"NULL AS {identifier(c.token)}" for c in site.crawlers)
    every = " AND ".join(f"address IN (SELECT address FROM found WHERE {condition})" for condition, _ in asked)
    sql = f"""WITH found AS ({SPOKEN_OF})
    SELECT NULL AS id, address AS url, NULL AS kind_rule, '{FILE}' AS kind, '' AS section, '{Want.ANY}' AS want, false AS stated,
        NULL AS status, NULL AS media_type, NULL AS folds_into, false AS listed, 0 AS followed, 0 AS unfollowed, NULL AS clicks,
        [(0, '', '', 0, '')][:0] AS by, list(DISTINCT check_id ORDER BY check_id) AS checks, NULL AS rendered, {states}
    FROM found WHERE {every} AND address NOT IN (SELECT origin || path FROM fact WHERE known) GROUP BY address ORDER BY address"""
    return [(sql, [list(given) for _, given in asked])]


def listed(site: Site, filters: Filters | None = None, sort: str | None = None) -> Iterator[AddressRow]:
    """Known URLs that meet the filters, as they are needed; a state counts if any crawler is in it.

    Files that the findings asked for are about come last; they have no state.
    """
    for sql, given in _asked(site, filters, sort):
        yield from _rows(site, sql, given)


GROUPS = ("section", "kind", "state", "check")
"""What rows can be counted by."""


@dataclass(frozen=True, slots=True)
class Group:
    """Rows that have something in common: how many there are, their states for the last crawler, one of them."""

    name: str
    count: int
    states: dict[str, int]
    wanted: int
    example: str

    def as_json(self) -> dict[str, object]:
        return {
            "group": self.name,
            "count": self.count,
            "states": self.states,
            "wanted": self.wanted,
            "example": self.example,
        }


def grouped(rows: Iterable[AddressRow], by: str) -> list[Group]:
    """Rows counted by section, kind, state or check, the largest group first; a row with several checks is in each of theirs.

    Raises UsageError for anything else.
    """
    if by not in GROUPS:
        raise UsageError(f"--group-by {by}: write one of {', '.join(GROUPS)}")
    states: dict[str, Counter[str]] = {}
    wanted: Counter[str] = Counter()
    first: dict[str, str] = {}
    for row in rows:
        state = next(reversed(row.states.values()), "")
        names = {"section": [row.section], "kind": [row.kind], "state": [state], "check": row.checks}[by]
        for name in names:
            states.setdefault(name, Counter())[state] += 1
            wanted[name] += row.want == Want.SHOW
            first.setdefault(name, row.url)
    found = [
        Group(name, counts.total(), dict(counts.most_common()), wanted[name], first[name])
        for name, counts in states.items()
    ]
    return sorted(found, key=lambda group: (-group.count, group.name))


def values(
    site: Site, columns: Mapping[str, str], filters: Filters | None = None, sort: str | None = None
) -> Iterator[list[tuple[Value, ...]]]:
    """The columns alone of the same addresses, many rows at a time: texts of the site are safe in a table's cell."""
    hostile = [place for place, name in enumerate(columns) if name in HOSTILE]
    texts = ", ".join(columns[n] for n in columns if n in HOSTILE)
    unsafe = f"regexp_matches(concat_ws('/', {texts}), {quoted(f'{UNSAFE_FIELD}')})" if texts else "false"
    for sql, given in _asked(site, filters, sort):
        site.con.execute(f"SELECT {', '.join(columns.values())}, {unsafe} FROM ({sql})", given)
        while batch := site.con.fetchmany(5_000):
            yield [_safe(row, hostile) if row[-1] else row[:-1] for row in batch]


def _safe(row: tuple[Any, ...], hostile: Sequence[int]) -> tuple[Value, ...]:
    return tuple(field(v) if place in hostile and v else v for place, v in enumerate(row[:-1]))


def _asked(site: Site, filters: Filters | None, sort: str | None) -> list[tuple[str, list[Any]]]:
    if not site.decided:
        verdict_of(site)
    if sort is not None:
        _known_words([sort], SORTS, "order")
    filters = filters or Filters()
    condition, given = filters.sql(site)
    return [(address_sql(site, condition, sort), given), *_files_sql(site, filters)]


def _rows(site: Site, sql: str, given: list[Any]) -> Iterator[AddressRow]:
    names = [c.token for c in site.crawlers]
    masks: dict[int, tuple[str, ...]] = {}
    site.con.execute(sql, given)
    while batch := site.con.fetchmany(5_000):
        for (_, url, rule, kind, section, want, stated, status, media, into, is_listed, followed, unfollowed, clicks, by,
             found, rendered, *states) in batch:  # fmt: skip
            told = []
            for mask, how, file, line, text in by or ():
                crawlers = masks.get(mask)
                if crawlers is None:
                    crawlers = masks[mask] = site.names(mask)
                told.append(By(crawlers, how, file, line, text))
            yield AddressRow(
                url, kind, section, want, stated, {n: s for n, s in zip(names, states, strict=True) if s}, status, into, clicks,
                "" if kind == FILE else why(rule),
                tuple(told), tuple(found or ()), media, is_listed, followed, unfollowed, rendered,
            )  # fmt: skip


def wanted_among(site: Site, urls: Iterable[str]) -> int:
    """How many of some URLs the first line of the audit counts as wanted: variants of one page count once."""
    sql = f"SELECT count(*) FROM fact WHERE origin || path IN (SELECT unnest(?::VARCHAR[])) AND id IN ({wanted_pages(site)})"
    return int(site.one(sql, [sorted(urls)]))
