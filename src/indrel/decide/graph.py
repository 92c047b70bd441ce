"""What can be reached: breadth first over the links of a snapshot, by whole frontiers (NumPy)."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from indrel.base.arrow import arrays, pa
from indrel.core.page.facts import UNFOLLOWED
from indrel.decide.site import Site, once

Ids = npt.NDArray[np.int32]
Clicks = npt.NDArray[np.int32]

AT_ONCE = 1 << 20
"""Links that are looked at together: more would be held in memory several times over."""


@once
def link_graph(site: Site) -> LinkGraph:
    """The graph of a site."""
    return LinkGraph(site)


class LinkGraph:
    """The links of a snapshot as arrays, in which those of one page stand together: `begin` and `end` by page."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.size = int(site.one("SELECT coalesce(max(id), 0) + 1 FROM address"))
        total = int(site.one("SELECT count(*) FROM link"))
        self.target = np.empty(total, dtype=np.int32)
        self.flags = np.empty(total, dtype=np.uint8)
        # of the sources only where each one's links begin: the column itself would be the half of what is held
        self.begin, self.end = np.zeros(self.size, dtype=np.int64), np.zeros(self.size, dtype=np.int64)
        together, at = True, 0
        for batch in site.con.sql("SELECT source, target, flags FROM link").to_arrow_reader(1 << 20):
            source, target, flags = (column.to_numpy() for column in batch.columns)
            end = at + len(source)
            self.target[at:end], self.flags[at:end] = target, flags
            together = self._place(source, at) and together
            at = end
        if not together:
            self._sort()
        self._known: dict[tuple[int, int, bool], Clicks] = {}

    def _place(self, source: Ids, at: int) -> bool:
        """Note where the links of the pages of some rows begin and end; whether they stand together so far."""
        if not len(source):
            return True
        first = np.concatenate(([0], np.flatnonzero(np.diff(source)) + 1))
        pages, begin, end = source[first], at + first, at + np.append(first[1:], len(source))
        if self.end[pages[0]] == at:  # the rows before ended with this page
            begin[0] = self.begin[pages[0]]
            self.end[pages[0]] = 0
        together = not self.end[pages].any() and len(np.unique(pages)) == len(pages)
        self.begin[pages], self.end[pages] = begin, end
        return together

    def _sort(self) -> None:
        source = arrays(self.site.con, "SELECT source FROM link")[0]
        order = np.argsort(source, kind="stable")
        self.target, self.flags = self.target[order], self.flags[order]
        pages = np.arange(self.size)
        self.begin, self.end = (np.searchsorted(source, pages, side, sorter=order) for side in ("left", "right"))

    def sources(self) -> Ids:
        """The page of each link."""
        order = np.argsort(self.begin, kind="stable")
        return np.repeat(order.astype(np.int32), (self.end - self.begin)[order])

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
        """The targets of the links of some pages (of the ones that are followed, if obeyed), in pieces of bounded size."""
        begin, end = self.begin[sources], self.end[sources]
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
