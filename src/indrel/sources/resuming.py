"""A broken-off audit of a live site taken up again: what its snapshot knows is not asked again, what was left stays left."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import TYPE_CHECKING, NamedTuple

from indrel.gather.answers import Answer

if TYPE_CHECKING:
    from indrel.sources.site import LiveSite

SOURCES = 16
"""Pages naming an address that are looked at: one that others than its like name is named by one of the first."""

_MENTIONED = f"""WITH mention AS (
    SELECT target, source FROM link UNION ALL
    SELECT target, source FROM alternate WHERE target IS NOT NULL UNION ALL
    SELECT target, address FROM canonical WHERE target IS NOT NULL UNION ALL
    SELECT refresh, address FROM page WHERE refresh IS NOT NULL UNION ALL
    SELECT target, address FROM answer WHERE target IS NOT NULL
), named AS (SELECT target, min(source, {SOURCES}) AS sources FROM mention GROUP BY target),
beside AS (SELECT address AS id FROM entry UNION SELECT address FROM given)
SELECT a.origin || a.path, n.sources, a.id IN (FROM beside), a.id IN (SELECT address FROM answer) AS read
FROM address a LEFT JOIN named n ON n.target = a.id
WHERE a.site AND (n.target IS NOT NULL OR a.id IN (FROM beside)) ORDER BY read DESC, a.id"""


class Left(NamedTuple):
    """An address that is known and was not read; `sources` are the patterns of the pages that name it, None where something
    else does, `copy` the page that all of them are copies of."""

    url: str
    sources: list[str] | None = None
    copy: str | None = None


def take_up(site: LiveSite) -> bool:
    """Take up what a snapshot knows, if it came so far as to know anything; whether it did."""
    recorder, con = site.recorder, site.recorder.writer.con
    if not recorder.writer.meta.get("prepared"):
        return False
    recorder.load()
    if site.options.only is not None:
        answered = "FROM robots WHERE status IS NOT NULL"
        site.asked_before = con.execute(f"SELECT origin, role {answered} ORDER BY origin").fetchall()
        con.execute(f"DELETE {answered}")
    for origin, status, hops, body, known in con.execute(
        "SELECT origin, status, len(hops), body, known FROM robots"
    ).fetchall():
        site.gate.learn(origin, status if known else 404, hops, body or b"")
        site.robots[origin] = Answer(origin + "/robots.txt", status, body=body or b"")
    for (number,) in con.execute("SELECT address FROM answer").fetchall():
        site.frontier.seen.add(number)
    site.fetched = len(site.frontier.seen)
    site.left = _left(site) if site.options.only is None else [Left(url) for url in _forgotten(site, site.options.only)]
    return True


def _forgotten(site: LiveSite, only: frozenset[str]) -> list[str]:
    """The URLs to request again that the snapshot still has."""
    return [url for url, _, _, read in _mentioned(site) if not read and url in only]


def _left(site: LiveSite) -> list[Left]:
    """What is known and was not read. The frontier hears of what was, as it did then: its bounds hold over all of it."""
    con, frontier, follow = site.recorder.writer.con, site.frontier, site.options.follow_links
    urls, found = site.recorder.urls(), list[Left]()

    @cache
    def shape(number: int) -> str:
        return frontier.shape(urls[number])

    texts = con.execute("SELECT address, text_hash, text_length FROM page ORDER BY address").fetchall()
    worn = frontier.worn(texts, urls)
    for url, sources, beside, read in _mentioned(site):
        if beside:
            found += [] if read else [Left(url)]
            continue
        named = [shape(n) for n in sources if n not in worn]
        if read:
            frontier.was_read(url, named)
        elif follow:
            found.append(Left(url, named, None if named else worn[sources[0]]))
    return found


def _mentioned(site: LiveSite) -> Iterator[tuple[str, list[int], bool, bool]]:
    """The addresses of the site that something names: pages that do, whether something else does, whether it was read."""
    cursor = site.recorder.writer.con.execute(_MENTIONED)
    while rows := cursor.fetchmany(50_000):
        yield from rows
