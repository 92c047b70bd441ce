"""Pages that are another page again: the histories, differences and edit forms of a wiki or tracker, and the parts of a series.

One word in one URL tells nothing: a hut has a history, too. What tells is that several pages have such a view, each of a
page that exists, or that a series of numbers begins at a page and goes on under its name.
"""

from __future__ import annotations

import re
from collections import defaultdict
from typing import Any, NamedTuple

from indrel.base.sqltext import quoted
from indrel.core.page.facts import LEAST_WORDS

STRONG = (
    "edit", "diff", "diffs", "raw", "revision", "revisions", "rev", "revs", "oldid", "blame", "annotate", "permalink", "rollback",
    "revert", "rename", "recent-changes", "whatlinkshere", "backlinks", "viewsource", "view-source",
)  # fmt: skip
"""Words that name a view of a page wherever several pages have it."""

WEAK = (
    "history", "log", "info", "source", "version", "versions", "changes", "compare", "export", "export_raw",
    "delete", "move", "discuss", "attach", "subscribe", "watch",
)  # fmt: skip
"""Words that name one where the host has views of the first kind, too, or links to them only with nofollow."""

_ACTIONS = "action|do|mode|view|task|op|cmd"
_FLAGS = "oldid|diff|rev|revision|rcid|curid|redlink|veaction|undo|undoafter"
_RIDERS = f"{_ACTIONS}|{_FLAGS}|r1|r2|rev2|difftype|section|to|from|format|id_a|id_b"
"""Parameters that stand beside a view's and say nothing of the page."""

FEW_STRONG, FEW_WEAK = 2, 3
"""Pages that have a view, from which on it is one."""

MANY_BY_ID = 5
_SERIES_LEAST = 2

_WORDS = "|".join((*STRONG, *WEAK))
_ID = "[0-9]+|[0-9a-f]{7,40}"
_IN_PATH = f"^(.*?)/_?({_WORDS})((?:/[^/?]+)*)/?$"
_IN_QUERY = f"[?&;](?:{_ACTIONS})=_?({_WORDS})(?:[&;]|$)|[?&;]({_FLAGS})=[^&;]+"


def stage_copied(con: Any) -> None:
    """`copied`: addresses that are views of another page, which word of the URL tells, and how: `path`, `query` or `id`."""
    con.execute("CREATE TEMP TABLE copied (address INTEGER, word VARCHAR, how VARCHAR)")
    quick = f"regexp_matches(path, '/_?({_WORDS})(/|$)|[?&;]({_ACTIONS}|{_FLAGS})=')"
    if not con.execute(f"SELECT 1 FROM address WHERE site AND {quick} LIMIT 1").fetchall():
        return _by_id(con)
    con.execute(
        f"""CREATE TEMP TABLE viewed AS
        WITH named AS (SELECT id, origin, path, lower(path) AS low, contains(path, '?') AS asks FROM address WHERE site AND {quick}),
        told AS (
            SELECT id, origin, regexp_extract(low, {quoted(_IN_PATH)}, 2) AS word, 'path' AS how,
                regexp_extract(path, {quoted(_IN_PATH.replace("^(.*?)", "^(?i)(.*?)"))}, 1) AS head,
                regexp_extract(path, {quoted(_IN_PATH.replace("^(.*?)", "^(?i)(.*?)"))}, 3) AS rest
            FROM named WHERE NOT asks AND regexp_matches(low, {quoted(_IN_PATH)})
            UNION ALL
            SELECT id, origin, coalesce(nullif(regexp_extract(low, {quoted(_IN_QUERY)}, 1), ''),
                regexp_extract(low, {quoted(_IN_QUERY)}, 2)), 'query',
                rtrim(regexp_replace(regexp_replace(path, '([?&;])(?:{_RIDERS})=[^&;]*', '\\1', 'gi'), '[&;?]+', '?'), '?&;'), ''
            FROM named WHERE asks AND regexp_matches(low, {quoted(_IN_QUERY)})),
        known AS (
            SELECT id, origin, word, how, CASE WHEN how = 'query' THEN [head, head || '/']
                ELSE [whole, whole || '/', whole || '.html', bare, bare || '/', bare || '.html', head, head || '/', head || '.html']
                END AS bases
            FROM (SELECT *, head || rest AS whole, regexp_replace(head || rest, '/({_ID})(/({_ID}))?$', '') AS bare FROM told)),
        likely AS (SELECT id, origin, word, how, unnest(bases) AS base, unnest(range(len(bases))) AS rank FROM known)
        SELECT b.id, b.origin, b.word, b.how, arg_min(o.id, b.rank) AS base FROM likely b
        JOIN address o ON o.origin = b.origin AND o.path = b.base JOIN answer n ON n.address = o.id
        WHERE o.id <> b.id AND n.status < 400 AND b.base <> '' AND (b.base <> '/' OR b.how = 'query')
        GROUP BY b.id, b.origin, b.word, b.how"""
    )
    strong = ", ".join(quoted(word) for word in STRONG)
    con.execute(
        f"""INSERT INTO copied
        WITH used AS (SELECT v.origin, v.word, v.how, count(DISTINCT v.base) AS bases, v.word IN ({strong}) OR v.how = 'query' AS is_strong,
                coalesce(sum(i.followed), 0) = 0 AND coalesce(sum(i.unfollowed), 0) > 0 AS kept_apart
            FROM viewed v LEFT JOIN inlink i ON i.target = v.id GROUP BY ALL),
        sure AS (SELECT DISTINCT origin FROM used WHERE is_strong AND bases >= {FEW_STRONG})
        SELECT v.id, min(v.word), min(v.how) FROM viewed v JOIN used u ON (u.origin, u.word, u.how) = (v.origin, v.word, v.how)
        WHERE u.is_strong AND u.bases >= {FEW_STRONG}
        OR u.bases >= {FEW_WEAK} AND (u.kept_apart OR v.origin IN (SELECT origin FROM sure)) GROUP BY v.id"""
    )
    con.execute("DROP TABLE viewed")
    _by_id(con)


def view_of(path: str) -> str:
    """What in a path or its parameters names the view: `/history`, `action=edit`, `oldid=`."""
    place, question, query = path.lower().partition("?")
    if question:
        asked = re.search(_IN_QUERY, "?" + query)
        if asked:
            return asked[0].strip("?&;") if asked[1] else f"{asked[2]}="
        return f"{query.partition('=')[0]}="
    found = re.search(_IN_PATH, place)
    return f"/{found[2]}" if found else place


def _by_id(con: Any) -> None:
    """Pages that an id names although a name does, too: a parameter with a number alone, for many pages that have another URL."""
    con.execute(
        f"""INSERT INTO copied
        WITH numbered AS (SELECT a.id, a.origin, split_part(a.path, '?', 1) AS place,
                regexp_extract(a.path, '\\?([a-z_]*id|p|page_id)=[0-9]+$', 1) AS word, p.text_hash
            FROM address a JOIN page p ON p.address = a.id WHERE a.site AND p.own_words >= {LEAST_WORDS}
            AND regexp_matches(a.path, '\\?([a-z_]*id|p|page_id)=[0-9]+$')),
        named AS (SELECT a.origin, p.text_hash, any_value(a.path) AS path FROM address a JOIN page p ON p.address = a.id
            WHERE a.site AND NOT contains(a.path, '?') AND p.text_hash IN (SELECT text_hash FROM numbered) GROUP BY ALL),
        same AS (SELECT n.* FROM numbered n JOIN named m ON m.origin = n.origin AND m.text_hash = n.text_hash AND m.path <> n.place)
        SELECT id, word, 'id' FROM same WHERE (origin, place, word) IN
            (SELECT (origin, place, word) FROM same GROUP BY ALL HAVING count(DISTINCT text_hash) >= {MANY_BY_ID})
            AND id NOT IN (SELECT address FROM copied)"""
    )


# ---------------------------------------------------------------- series


class _Member(NamedTuple):
    """A page that may be a part of a series: its number there, and what names it."""

    id: int
    number: int
    heading: str
    title: str
    text_hash: int | None


_NUMBER_LAST = r"^(.*?)([-_/]?)([0-9]{1,6})((?:\.html?|\.php)?/?)$"
_NUMBER_ASKED = r"^(.*[?&;])([A-Za-z_]+)=([0-9]{1,6})((?:[&;].*)?)$"
_PAGE_NUMBER = re.compile(
    r"\b(?:page|seite|pagina|página|strona|sida|side)\W*\d|\d+\s*(?:/|of|von|de)\s*\d", re.IGNORECASE
)
_PAGE_WORD = re.compile(r"\b(page|seite|pagina|página|strona|sida|side|s\.)\b|[\d\W_]+", re.IGNORECASE)


def _cut(pattern: str) -> str:
    """The four groups of a pattern in a path, by name, in SQL."""
    return f"regexp_extract(path, {quoted(pattern)}, ['head', 'mark', 'number', 'tail'])"


def stage_paged(con: Any) -> None:
    """`paged`: the second and further parts of a list, whatever the number in their URLs is called: a series of numbers, linked
    from each other or from the page where it begins, under that page's name."""
    con.execute("CREATE TEMP TABLE paged (address INTEGER)")
    con.execute(
        f"""CREATE TEMP TABLE numbered AS
        WITH ends AS (SELECT a.id, a.origin, a.path, contains(a.path, '?') AS asks FROM address a JOIN page p ON p.address = a.id
            WHERE a.site AND p.problem IS NULL AND regexp_matches(a.path, '[0-9](\\.html?|\\.php)?/?$|[?&;][A-Za-z_]+=[0-9]+([&;]|$)'))
        SELECT id, origin, cut.head, cut.mark, try_cast(cut.number AS INTEGER) AS number, cut.tail, asks FROM (
            SELECT id, origin, asks, CASE WHEN asks THEN {_cut(_NUMBER_ASKED)} ELSE {_cut(_NUMBER_LAST)} END AS cut FROM ends)"""
    )
    groups = con.execute(
        """WITH series AS (SELECT origin, head, mark, tail, asks, count(*) AS members, min(number) AS least FROM numbered
                WHERE number IS NOT NULL AND (asks OR mark <> '') GROUP BY ALL),
            likely AS (SELECT * FROM series WHERE (least BETWEEN 1 AND 2 OR asks AND members >= 2) AND NOT (members = 1 AND least < 2)),
            bases AS (SELECT *, unnest(CASE WHEN asks THEN [rtrim(head, '?&;') || CASE WHEN contains(rtrim(head, '?&;'), '?') THEN tail
                    WHEN tail = '' THEN '' ELSE '?' || tail[2:] END]
                ELSE [head || tail, head || '/', head, head || '.html', head || '/index.html',
                    bare, bare || '/', bare || tail, bare || '/index.html'] END) AS base
                FROM (SELECT *, regexp_replace(head, '[-_/](page|seite|pagina|pag|pg|p|sida|strona|part)$', '', 'i') AS bare FROM likely))
        SELECT b.origin, b.head, b.mark, b.tail, b.asks, min_by(a.id, -length(a.path)) FROM bases b
        JOIN address a ON a.origin = b.origin AND a.path = b.base JOIN page p ON p.address = a.id
        GROUP BY b.origin, b.head, b.mark, b.tail, b.asks"""
    ).fetchall()
    if groups:
        _keep_series(con, groups)
    con.execute("DROP TABLE numbered")


def _keep_series(con: Any, groups: list[tuple[Any, ...]]) -> None:
    columns = [list(column) for column in zip(*groups, strict=True)]
    con.execute(
        """CREATE TEMP TABLE series AS SELECT unnest(?::VARCHAR[]) AS origin, unnest(?::VARCHAR[]) AS head, unnest(?::VARCHAR[]) AS mark,
        unnest(?::VARCHAR[]) AS tail, unnest(?::BOOLEAN[]) AS asks, unnest(?::INTEGER[]) AS base""",
        columns,
    )
    members: dict[int, list[_Member]] = defaultdict(list)
    bases: dict[int, _Member] = {}
    joined = "(s.origin, s.head, s.mark, s.tail, s.asks) = (n.origin, n.head, n.mark, n.tail, n.asks)"
    named = "coalesce(p.heading, ''), coalesce(p.title, ''), p.text_hash"
    for base, *row in con.execute(
        f"SELECT s.base, n.id, n.number, {named} FROM series s JOIN numbered n ON {joined} JOIN page p ON p.address = n.id "
        "WHERE n.id <> s.base AND n.number IS NOT NULL"
    ).fetchall():
        members[base].append(_Member(*row))
    for row in con.execute(
        f"SELECT p.address, 0, {named} FROM page p WHERE p.address IN (SELECT base FROM series)"
    ).fetchall():
        bases[row[0]] = _Member(*row)
    found = [(one.id, base) for base, those in members.items() for one in _parts(bases[base], those)]
    if not found:
        return
    ids, owners = ([pair[n] for pair in found] for n in (0, 1))
    con.execute(
        """INSERT INTO paged WITH told AS (SELECT unnest(?::INTEGER[]) AS address, unnest(?::INTEGER[]) AS base)
        SELECT DISTINCT t.address FROM told t WHERE t.address IN (SELECT l.target FROM link l JOIN told o ON o.address = l.target
            WHERE l.source = o.base OR l.source IN (SELECT address FROM told x WHERE x.base = o.base))""",
        [ids, owners],
    )


def _parts(base: _Member, members: list[_Member]) -> list[_Member]:
    """The members that go on where a page begins; none if the numbers name pages of their own, such as chapters."""
    firsts = [one for one in members if one.number < _SERIES_LEAST]
    if any(one.text_hash != base.text_hash for one in firsts if one.number == 1) and not any(
        one.number == 0 for one in firsts
    ):
        return []
    same = [one for one in members if _named_alike(base, one)]
    later = [one for one in same if one.number >= _SERIES_LEAST]
    return same if later and len(same) >= 0.9 * len(members) else []


def _named_alike(base: _Member, one: _Member) -> bool:
    """Whether a part has the name of the page where its series begins, but for a page's number: `HTTP/2` is no part of `HTTP`."""
    if base.heading and one.heading:
        return _is_name_of_part(base.heading, one.heading)
    return bool(base.title and one.title) and _is_name_of_part(base.title, one.title)


def _is_name_of_part(name: str, other: str) -> bool:
    if name.casefold() == other.casefold():
        return True
    first, second = _bare(name), _bare(other)
    begins = bool(first and second) and (first.startswith(second) or second.startswith(first))
    return begins and _PAGE_NUMBER.search(other) is not None


def _bare(name: str) -> str:
    return " ".join(_PAGE_WORD.sub(" ", name.casefold()).split())
