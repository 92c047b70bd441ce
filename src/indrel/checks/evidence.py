"""Evidence for many addresses at once: each function is one query over the snapshot."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

from indrel.checks.measures import MOST_NAMED
from indrel.core.address import origin_of
from indrel.core.answers import status_text
from indrel.core.model import Evidence
from indrel.core.page.facts import UNFOLLOWED, LinkFlag
from indrel.core.robots import Access, HostRobots
from indrel.decide.predicates import CANONICAL_COUNTS, KEPT_FROM_ALL
from indrel.decide.seen import SHELL
from indrel.decide.site import Site, once


class Subject(NamedTuple):
    """A page that a check speaks of: its number, its address, and the crawlers that it holds for."""

    id: int
    url: str
    crawlers: int


class Wanted(NamedTuple):
    """The same of a page that is wanted, with the intent's entry that says so; without one, the want is implied."""

    id: int
    url: str
    crawlers: int
    entry: int | None


FEW_IDS = 500
"""Up to so many numbers go into a query as a list; more as a table, for which the array library is loaded."""


def about(site: Site, ids: Iterable[int], sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
    """The rows of a query over some addresses, whose numbers it finds in the table `picked`; none are no query."""
    numbers = sorted(set(ids))
    if not numbers:
        return []
    if len(numbers) <= FEW_IDS:
        site.con.execute("CREATE OR REPLACE TEMP TABLE picked AS SELECT unnest(?::INTEGER[]) AS id", [numbers])
        return site.rows(sql, parameters)
    from indrel.base.arrow import pa

    site.con.execute("DROP TABLE IF EXISTS temp.main.picked")
    site.con.register("picked", pa.table({"id": pa.array(numbers, pa.int32())}))
    try:
        return site.rows(sql, parameters)
    finally:
        site.con.unregister("picked")


SMALL = (1_000, 5_000)
"""Addresses and links of a site up to which its evidence is asked for as a whole: queries cost more there than rows."""


@once
def _is_small(site: Site) -> bool:
    sizes = site.rows("SELECT (SELECT count(*) FROM address), (SELECT count(*) FROM link)")[0]
    return all(size <= most for size, most in zip(sizes, SMALL, strict=True))


@once
def _asked(site: Site) -> dict[str, dict[int, list[tuple[Any, ...]]]]:
    """For a small site: the rows of each query by URL."""
    return {}


def of_each(site: Site, ids: Iterable[int], sql: str) -> list[tuple[Any, ...]]:
    """The rows of a query as in `about` that begin with the address, and hang on no other of them."""
    numbers = sorted(set(ids))
    if not numbers or not _is_small(site):
        return about(site, numbers, sql)
    asked = _asked(site)
    if sql not in asked:
        rows = asked[sql] = {}
        site.con.execute("CREATE OR REPLACE TEMP TABLE picked AS SELECT id FROM address")
        for row in site.rows(sql):
            rows.setdefault(row[0], []).append(row)
    return [row for number in numbers for row in asked[sql].get(number, ())]


@once
def kept_from_all(site: Site) -> set[int]:
    """Listed URLs that are closed, look private, and are not stated to be wanted: whether they should be open is a question."""
    asked = f"SELECT id FROM fact WHERE listed AND entry IS NULL AND {KEPT_FROM_ALL}"
    return {number for (number,) in site.rows(asked)}


UNWANTED = "want IN ('hide', 'lock', 'drop')"
LISTED_ROW = "NOT (entry IS NOT NULL AND want IN ('show', 'hide', 'lock', 'drop'))"
"""Whether the sitemap's row reports a listed page: its want is only inferred from the sitemap."""

LISTED_ROW_F = LISTED_ROW.replace("entry", "f.entry").replace("want", "f.want")
"""The same over `f`."""

PAGE_ROW = "(entry IS NOT NULL OR NOT listed)"
"""Whether a wanted page's row speaks, rather than the sitemap's."""

LISTED_OTHER = "NOT (f.entry IS NOT NULL AND f.want IN ('hide', 'lock', 'drop'))"
"""Whether other rows of a listed page `f` apply, rather than the one that it is unwanted."""


def who_is(start: bool, named: bool, entry: int | None) -> str:
    """What makes a page wanted, in words."""
    if entry is not None:
        return "a page that you want shown"
    if start:
        return "the home page"
    return "a page that canonicals of other pages point to" if named else "a page in the sitemap"


WHERE = "coalesce(n.file, a.origin || a.path)"
"""Where a page stands: its file in a folder, its address elsewhere."""


def directives(site: Site, ids: Iterable[int], token: str = "noindex") -> dict[int, list[tuple[int, Evidence]]]:
    """Per address the tags and headers in effect that say a token, each with the crawlers it holds for."""
    condition = f"(noindex OR {site.expired_sql})" if token == "noindex" else "nofollow"
    found: dict[int, list[tuple[int, Evidence]]] = {}
    for address, origin, mask, line, text, where in of_each(
        site,
        ids,
        f"""SELECT d.address, d.origin, s.mask, d.line, d.text, {WHERE} FROM directive d
        JOIN picked ON picked.id = d.address JOIN scope s ON s.name = d.scope
        JOIN address a ON a.id = d.address JOIN answer n ON n.address = d.address
        WHERE d.void IS NULL AND {condition} ORDER BY d.address, d.origin, d.line, d.text""",
    ):
        kind = "header" if origin else "tag"
        found.setdefault(address, []).append((mask, Evidence(kind, where, line, text)))
    return found


def said(site: Site, ids: Iterable[int], mask: int, token: str = "noindex") -> dict[int, tuple[Evidence, ...]]:
    """Per address what tells one of the crawlers of a mask a token."""
    return {
        address: tuple(evidence for holds, evidence in pairs if holds & mask)
        for address, pairs in directives(site, ids, token).items()
    }


def expired(site: Site, ids: Iterable[int]) -> set[int]:
    """Those of the addresses whose noindex rests on a date that has passed, and on nothing else."""
    rows = of_each(
        site,
        ids,
        f"""SELECT d.address FROM directive d JOIN picked ON picked.id = d.address
        WHERE d.void IS NULL AND (d.noindex OR {site.expired_sql}) GROUP BY d.address HAVING NOT bool_or(d.noindex)""",
    )
    return {address for (address,) in rows}


def put_forward(site: Site, ids: Iterable[int]) -> dict[int, Evidence]:
    """Per address what names it beside links: its first sitemap entry, else the list that the audit was given."""
    chosen = list(ids)
    entries = listings(site, chosen)
    lists = {"also": "given with --urls", "before": "open in the audit that this one is compared with"}
    asked = """SELECT g.address, any_value(g.why), any_value(a.origin || a.path) FROM given g
        JOIN picked ON picked.id = g.address JOIN address a ON a.id = g.address GROUP BY g.address"""
    given = {n: Evidence("list", url, None, lists.get(why, why)) for n, why, url in of_each(site, chosen, asked)}
    return given | {number: entry for number, (_, entry) in entries.items()}


def listings(site: Site, ids: Iterable[int]) -> dict[int, tuple[str, Evidence]]:
    """Per address its first sitemap entry: the address as written, and where it stands."""
    found: dict[int, tuple[str, Evidence]] = {}
    for address, loc, line, url, kind in of_each(
        site,
        ids,
        """SELECT e.address, e.loc, e.line, m.url, m.kind FROM entry e JOIN picked ON picked.id = e.address
        JOIN sitemap m ON m.id = e.sitemap
        QUALIFY row_number() OVER (PARTITION BY e.address ORDER BY e.sitemap, e.line, e.col) = 1""",
    ):
        text = loc if kind == "text" else f"<loc>{loc}</loc>"
        found[address] = (loc, Evidence("sitemap", url, line, text))
    return found


def answers(site: Site, ids: Iterable[int]) -> dict[int, tuple[Evidence, ...]]:
    """Per address its status, and the `Location` it redirects to."""
    found: dict[int, tuple[Evidence, ...]] = {}
    for address, url, status, error, location, refresh_line, refresh_text, where in of_each(
        site,
        ids,
        f"""SELECT n.address, a.origin || a.path, n.status, n.error, n.location, p.refresh_line,
            CASE WHEN p.refresh IS NOT NULL THEN p.refresh_text END, {WHERE}
        FROM answer n JOIN picked ON picked.id = n.address JOIN address a ON a.id = n.address
        LEFT JOIN page p ON p.address = n.address""",
    ):
        shown = [Evidence("status", url, None, status_text(status, error))]
        if location is not None:
            shown.append(Evidence("header", url, None, f"Location: {location}"))
        elif refresh_text is not None:
            shown.insert(0, Evidence("tag", where, refresh_line, refresh_text))
        found[address] = tuple(shown)
    return found


def broken(status: str) -> str:
    """What is broken about a URL, from the text of its status: an error, or an error page with a status of success."""
    return "an error page that returns 200 (soft 404)" if status.startswith("2") else f"broken ({status})"


def canonicals(site: Site, ids: Iterable[int]) -> dict[int, list[Evidence]]:
    """Per address the canonicals that count, in the order of the page, header last."""
    found: dict[int, list[Evidence]] = {}
    for address, origin, line, text, where in of_each(
        site,
        ids,
        f"""SELECT c.address, c.origin, c.line, c.text, {WHERE} FROM canonical c
        JOIN picked ON picked.id = c.address JOIN address a ON a.id = c.address
        JOIN answer n ON n.address = c.address
        WHERE {CANONICAL_COUNTS} ORDER BY c.address, c.origin, c.line, c.text""",
    ):
        found.setdefault(address, []).append(Evidence("header" if origin else "canonical", where, line, text))
    return found


_FIRST_LINKS = f"""SELECT l.target, l.flags, l.line, l.text, {WHERE} FROM link l JOIN picked ON picked.id = l.target
    JOIN address a ON a.id = l.source JOIN answer n ON n.address = l.source WHERE {{condition}}
    QUALIFY row_number() OVER (PARTITION BY l.target ORDER BY a.path, a.origin, l.line, l.flags) <= {{most}}
    ORDER BY l.target, a.path, a.origin, l.line, l.flags"""

_PLACE = "(o.rank << 36) + (coalesce(l.line, 0) << 8) + l.flags"
_FIRST_OF_MANY = f"""WITH near AS (
        SELECT unnest(arg_min(l.rowid, {_PLACE}, {{most}})) AS at
        FROM link l JOIN picked ON picked.id = l.target JOIN ordered o ON o.id = l.source
        JOIN answer n ON n.address = l.source WHERE {{condition}} GROUP BY l.target)
    SELECT l.target, l.flags, l.line, l.text, {WHERE} FROM near JOIN link l ON l.rowid = near.at JOIN ordered o ON o.id = l.source
    JOIN address a ON a.id = l.source JOIN answer n ON n.address = l.source ORDER BY l.target, {_PLACE}"""
"""The same in half the time: links are put in order by numbers, and texts and addresses are looked up of the ones that are shown.
What is kept of each target while links are gone through are numbers too: the memory of texts would not be given back."""

_MANY_LINKED = 100
"""From so many addresses on, pages are put in order once, as numbers."""


@once
def _stage_order(site: Site) -> None:
    site.con.execute(
        "CREATE TEMP TABLE ordered AS SELECT id, row_number() OVER (ORDER BY path, origin) AS rank FROM address"
    )


def links_to(
    site: Site, ids: Iterable[int], most: int = 3, unfollowed: bool | None = None
) -> dict[int, list[Evidence]]:
    """Per address some links to it, those of the first pages by address: numbers hang on which answer came first."""
    found: dict[int, list[Evidence]] = {}
    numbers = set(ids)
    condition = {None: "true", True: f"flags & {UNFOLLOWED} > 0", False: f"flags & {UNFOLLOWED} = 0"}[unfollowed]
    sql = _FIRST_LINKS
    if len(numbers) >= _MANY_LINKED and not _is_small(site):
        _stage_order(site)
        sql = _FIRST_OF_MANY
    for target, flags, line, text, where in of_each(site, numbers, sql.format(condition=condition, most=most)):
        kind = "rendered" if flags & LinkFlag.RENDERED else "link"
        found.setdefault(target, []).append(Evidence(kind, where, line, text))
    return found


class Linking(NamedTuple):
    """How many pages link to an address, and the first of them."""

    pages: int = 0
    urls: tuple[str, ...] = ()


def linking_pages(site: Site, ids: Iterable[int], unfollowed: bool = False) -> dict[int, Linking]:
    """Per address the pages that link to it, or only the ones that do so unfollowed."""
    numbers = set(ids)
    if not numbers:
        return {}
    _stage_order(site)
    condition = f"l.flags & {UNFOLLOWED} > 0" if unfollowed else "true"
    rows = of_each(
        site,
        numbers,
        f"""WITH pair AS (SELECT DISTINCT l.target, o.rank FROM link l JOIN picked ON picked.id = l.target
                JOIN ordered o ON o.id = l.source WHERE {condition}),
            near AS (SELECT target, count(*) AS pages, min(rank, {MOST_NAMED}) AS ranks FROM pair GROUP BY target)
        SELECT n.target, n.pages, list(a.origin || a.path ORDER BY a.origin || a.path)
        FROM (SELECT target, pages, unnest(ranks) AS rank FROM near) n JOIN ordered o ON o.rank = n.rank
        JOIN address a ON a.id = o.id GROUP BY n.target, n.pages ORDER BY n.target""",
    )
    return {target: Linking(pages, tuple(urls)) for target, pages, urls in rows}


def first_link(site: Site, ids: Iterable[int]) -> dict[int, tuple[Evidence, ...]]:
    """Per address the first link to it, if any."""
    return {number: tuple(found[:1]) for number, found in links_to(site, ids, most=1).items()}


def scripts(site: Site, ids: Iterable[int], most: int = 2) -> dict[int, tuple[Evidence, ...]]:
    """Per page the first scripts that it loads, as served."""
    found: dict[int, tuple[Evidence, ...]] = {}
    for number, where, line, text in of_each(
        site,
        ids,
        f"""SELECT r.source, {WHERE}, r.line, r.text FROM resource r JOIN picked ON picked.id = r.source
        JOIN address a ON a.id = r.source JOIN answer n ON n.address = a.id WHERE r.kind = 'script'
        QUALIFY row_number() OVER (PARTITION BY r.source ORDER BY r.line, r.text) <= {most} ORDER BY r.source, r.line, r.text""",
    ):
        found[number] = (*found.get(number, ()), Evidence("script", where, line, text))
    return found


def robots_line(host: HostRobots, line: int | None, text: str) -> Evidence:
    return Evidence("robots", host.where, line, text)


def rules(site: Site, url: str, mask: int) -> tuple[Evidence, ...]:
    """The lines of robots.txt that bar an address for the crawlers of a mask; none where a whole host is closed."""
    found: dict[Evidence, None] = {}
    for i, crawler in enumerate(site.crawlers):
        if mask >> i & 1:
            allowed, rule, _ = site.rule_for(url, crawler)
            host = site.robots.get(origin_of(url))
            if host and rule and not allowed:
                found[robots_line(host, rule.line, rule.text)] = None
            elif host and host.access is Access.ALL_BARRED:
                found[Evidence("status", host.url, None, status_text(host.status, host.error))] = None
    return tuple(found)


def stated(site: Site, entry: int | None) -> tuple[Evidence, ...]:
    """The entry of the intent file that states a want; none where it is implied."""
    found = site.entry(entry)
    return (Evidence("intent", site.intent.where, found.line, found.text),) if found else ()


def page_texts(site: Site, ids: list[int]) -> dict[int, Evidence]:
    """Per page its heading, else its title, else the beginning of its text; the rendered text of a page that scripts fill."""
    return {
        number: Evidence("text", where, None, text)
        for number, text, where in of_each(
            site,
            ids,
            f"""SELECT p.address, coalesce((SELECT any_value(nullif(r.excerpt, '')) FROM render r WHERE r.address = p.address AND {SHELL}),
                nullif(p.heading, ''), nullif(p.title, ''), nullif(p.excerpt, ''), '(no text)'), coalesce(n.file, a.origin || a.path)
            FROM page p JOIN picked ON picked.id = p.address
            JOIN address a ON a.id = p.address JOIN answer n ON n.address = p.address""",
        )
    }
