"""Wanted pages that a crawler does not reach by followed links."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from indrel.checks.evidence import Wanted, about, links_to, said
from indrel.core.model import Evidence
from indrel.core.page.facts import UNFOLLOWED
from indrel.decide.site import Site, once


@once
def cut_off(site: Site) -> list[Wanted]:
    """Wanted pages that are linked, but that some crawlers do not reach by followed links."""
    start = site.start_id
    if start is None or not site.one("SELECT count(*) FROM link"):
        return []
    wanted = site.named(
        Wanted,
        f"SELECT id, origin || path, {site.all_mask} & ~barred, entry FROM fact WHERE site AND want = 'show' AND NOT start "
        "AND followed + unfollowed > 0 ORDER BY origin, path",
    )
    if not wanted or not _has_unfollowed(site):
        return []
    import numpy as np

    graph = _graph(site)
    missed = np.zeros(len(wanted), dtype=np.int64)
    ids = np.array([one.id for one in wanted])
    allowed = np.array([one.crawlers for one in wanted], dtype=np.int64)
    done: dict[tuple[int, ...], Any] = {}
    for i in range(len(site.crawlers)):
        key = _view(site, i)
        if key not in done:
            done[key] = ~graph.reached(start, i)[ids]
            if done[key].any():
                done[key] &= graph.reached(start, i, obey=False)[ids]
        missed |= np.where(done[key], 1 << i, 0)
    missed &= allowed
    return [one._replace(crawlers=mask) for one, mask in zip(wanted, missed.tolist(), strict=True) if mask]


def barriers(site: Site, ids: Iterable[int]) -> dict[int, tuple[Evidence, ...]]:
    """Per page behind a nofollow link that is further up its path: that link, or the page-wide nofollow."""
    behind = list(ids)
    if not behind:
        return {}
    graph = _graph(site)
    start = site.start_id
    unreached = {one.id for one in cut_off(site)} | {
        number
        for (number,) in site.rows("SELECT id FROM fact WHERE site AND html")
        if start is not None and not graph.reached(start, 0)[number]
    }
    ways: dict[int, list[tuple[int, bool]]] = {}
    for target, source, unfollowed in about(
        site,
        unreached,
        f"""SELECT l.target, l.source, bool_and(l.flags & {UNFOLLOWED} > 0) FROM link l JOIN picked ON picked.id = l.target
        GROUP BY l.target, l.source ORDER BY l.target, l.source""",
    ):
        ways.setdefault(target, []).append((source, unfollowed))
    found = {}
    for number in behind:
        at = _entrance(number, ways, unreached)
        if at is not None:
            page, source = at
            tags = said(site, [source], site.all_mask, "nofollow").get(source, ())
            found[number] = tuple(links_to(site, [page], most=1, unfollowed=True).get(page, ())) or tags
    return found


def _entrance(number: int, ways: dict[int, list[tuple[int, bool]]], unreached: set[int]) -> tuple[int, int] | None:
    """The first page on the way to another that crawlers do not reach, and the page that leads there."""
    front, seen = [number], {number}
    while front:
        onward = []
        for page in front:
            for source, _ in sorted(ways.get(page, ()), key=lambda way: not way[1]):
                if source not in unreached:
                    return page, source
                if source not in seen:
                    seen.add(source)
                    onward.append(source)
        front = onward
    return None


def _graph(site: Site) -> Any:
    from indrel.decide.graph import link_graph

    return link_graph(site)


def _has_unfollowed(site: Site) -> bool:
    return bool(site.one("SELECT count(*) FROM inlink WHERE unfollowed > 0")) or bool(
        site.one("SELECT count(*) FROM fact WHERE nofollow > 0")
    )


def _view(site: Site, index: int) -> tuple[int, ...]:
    """Equal for two crawlers that robots.txt and directives tell the same."""
    bit = 1 << index
    return tuple(
        site.rows(
            f"SELECT coalesce(bit_xor(hash(id, 'b')) FILTER (barred & {bit} > 0), 0), "
            f"coalesce(bit_xor(hash(id, 'n')) FILTER (nofollow & {bit} > 0), 0) FROM fact WHERE barred > 0 OR nofollow > 0"
        )[0]
    )
