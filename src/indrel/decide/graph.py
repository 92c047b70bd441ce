"""What can be reached: breadth first over the links of a snapshot, by whole frontiers (NumPy)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt

from indrel.arrow import arrays, pa
from indrel.core.page.facts import UNFOLLOWED
from indrel.decide.site import Site

Ids = npt.NDArray[np.int32]
Clicks = npt.NDArray[np.int32]

AT_ONCE = 1 << 20
"""Links that are looked at together: more would be held in memory several times over."""


def link_graph(site: Site) -> LinkGraph:
    """The graph of a site, read once."""
    if "graph" not in site.kept:
        site.kept["graph"] = LinkGraph(site)
    graph: LinkGraph = site.kept["graph"]
    return graph


class LinkGraph:
    """The links of a snapshot as arrays, ordered by source."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.size = int(site.one("SELECT coalesce(max(id), 0) + 1 FROM address"))
        total = int(site.one("SELECT count(*) FROM link"))
        self.source = np.empty(total, dtype=np.int32)
        self.target = np.empty(total, dtype=np.int32)
        self.flags = np.empty(total, dtype=np.uint8)
        reader: Any = site.con.sql("SELECT source, target, flags FROM link").to_arrow_reader(1 << 20)
        at = 0
        columns: tuple[Any, ...] = (self.source, self.target, self.flags)
        for batch in reader:
            end = at + batch.num_rows
            for array, column in zip(columns, batch.columns, strict=True):
                array[at:end] = column.to_numpy()
            at = end
        if not bool(np.all(self.source[:-1] <= self.source[1:])):
            order = np.argsort(self.source, kind="stable")
            self.source, self.target, self.flags = self.source[order], self.target[order], self.flags[order]
        self.starts = np.searchsorted(self.source, np.arange(self.size + 1))
        self._known: dict[tuple[int, int, bool], Clicks] = {}

    @staticmethod
    def unfollowed(flags: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
        """Which links are not followed, by their flags."""
        return flags & UNFOLLOWED > 0

    def reached(self, start: int, index: int, obey: bool = True) -> npt.NDArray[np.bool_]:
        """Which addresses one crawler reaches from `start`; see `clicks`."""
        return self.clicks(start, index, obey) >= 0

    def clicks(self, start: int, index: int, obey: bool = True) -> Clicks:
        """By how many links one crawler comes to each address from `start`, through pages it may read; -1: by none.

        Redirects and zero-second refreshes are followed and count nothing. Unless `obey` is false,
        links marked nofollow, ugc or sponsored and the links of pages that say nofollow are not.
        """
        if (start, index, obey) in self._known:
            return self._known[start, index, obey]
        bit = 1 << index
        ids, barred_there, silent_there, leads_there = arrays(
            self.site.con,
            f"""SELECT id, barred & {bit} > 0 AS barred, nofollow & {bit} > 0 AS nofollow,
            coalesce(CASE WHEN fold_how <> 'canonical' THEN folds_to END, -1) AS leads FROM fact
            WHERE barred & {bit} > 0 OR nofollow & {bit} > 0 OR (fold_how IS NOT NULL AND fold_how <> 'canonical')""",
        )
        barred = np.zeros(self.size, dtype=bool)
        barred[ids[barred_there]] = True
        silent = np.zeros(self.size, dtype=bool)
        if obey:
            silent[ids[silent_there]] = True
        leads = np.full(self.size, -1, dtype=np.int64)
        leads[ids] = leads_there
        depth: Clicks = np.full(self.size, -1, dtype=np.int32)
        depth[start] = 0
        frontier = np.array([start], dtype=np.int64)
        level = 0
        while len(frontier):
            led = frontier
            while len(led):  # redirects lead on at no cost
                onward = leads[led[~barred[led]]]
                led = np.unique(onward[onward >= 0])
                led = led[depth[led] < 0]
                depth[led] = level
                frontier = np.concatenate((frontier, led))
            level += 1
            fresh = np.zeros(self.size, dtype=bool)
            for targets in self._targets(frontier[~barred[frontier] & ~silent[frontier]], obey):
                fresh[targets] = True
            fresh &= depth < 0
            depth[fresh] = level
            frontier = np.flatnonzero(fresh)
        self._known[start, index, obey] = depth
        return depth

    def _targets(self, sources: npt.NDArray[np.int64], obey: bool) -> Iterator[Ids]:
        """The targets of the links of some pages (of those that are followed, if obeyed), in pieces of bounded size."""
        begin, end = self.starts[sources], self.starts[sources + 1]
        ends = np.cumsum(end - begin)
        at = 0
        while at < len(sources):
            done = ends[at - 1] if at else 0
            upto = max(at + 1, int(np.searchsorted(ends, done + AT_ONCE, side="right")))
            counts = end[at:upto] - begin[at:upto]
            first = begin[at:upto] - np.concatenate(([0], np.cumsum(counts)[:-1]))
            places = np.repeat(first, counts) + np.arange(int(counts.sum()))
            yield self.target[places[self.flags[places] & UNFOLLOWED == 0] if obey else places]
            at = upto


def clicks_of(site: Site) -> Clicks | None:
    """Clicks from the start page by address number, as the last crawler goes; None where that is not known."""
    if site.start_id is None or not site.one("SELECT count(*) FROM inlink"):
        return None
    return link_graph(site).clicks(site.start_id, len(site.crawlers) - 1)


def clicks_by_state(site: Site) -> dict[int | None, dict[str, int]]:
    """Known addresses by how many clicks the last crawler comes to them (None: by none) and by state.

    Empty where links or the start page are not known.
    """
    clicks = clicks_of(site)
    if clicks is None:
        return {}
    site.con.register("clicked", pa.table({"id": np.arange(len(clicks), dtype=np.int32), "clicks": clicks}))
    found: dict[int | None, dict[str, int]] = {}
    for depth, state, count in site.rows(
        f"""SELECT CASE WHEN c.clicks >= 0 THEN c.clicks END AS depth, {site.state_sql(len(site.crawlers) - 1)} AS state, count(*)
        FROM fact f JOIN clicked c ON c.id = f.id WHERE known GROUP BY ALL ORDER BY depth, state"""
    ):
        found.setdefault(depth, {})[state] = count
    site.con.unregister("clicked")
    return found
