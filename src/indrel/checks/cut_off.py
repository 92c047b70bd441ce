"""Wanted pages that a crawler does not reach by followed links."""

from __future__ import annotations

from typing import Any

from indrel.checks.evidence import Wanted
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

    from indrel.decide.graph import link_graph

    graph = link_graph(site)
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
