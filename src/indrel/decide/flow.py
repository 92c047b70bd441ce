"""Link flow: where the weight that a site's own links carry ends, as a random walk over them shows it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from indrel.base.arrow import arrays
from indrel.base.sqltext import quoted_list
from indrel.core.model import State
from indrel.decide.graph import link_graph
from indrel.decide.site import Site, once

DAMPING = 0.85
"""The share of visits that follow a link; the others begin again at any open page."""

ROUNDS = 60
CLOSE_ENOUGH = 1e-7
UNFOLLOWED_FATE = "unfollowed"
FATES = (UNFOLLOWED_FATE, State.BARRED, State.HIDDEN, State.GONE, State.BROKEN, State.LOCKED)
"""What becomes of weight that is lost; that which ends in open pages is not."""


@dataclass(frozen=True)
class LinkFlow:
    """Shares (0 to 1) of the weight of internal links for one crawler.

    `fates` are shares by what takes the weight (FATES), `sections` those lost by section of the
    link's target, the largest first.
    """

    crawler: str
    lost: float
    fates: dict[str, float]
    sections: dict[str, float]

    def as_json(self) -> dict[str, object]:
        return {
            "crawler": self.crawler, "lost": round(self.lost, 4),
            "fates": {n: round(v, 4) for n, v in self.fates.items()},
            "sections": {n: round(v, 4) for n, v in self.sections.items()},
        }  # fmt: skip


@once
def link_flow(site: Site) -> LinkFlow | None:
    """The link flow as the last of the crawlers sees it (`*` by default); None where no page links another.

    Each open page shares its weight among the addresses of the site that it links; a followed link
    to an open page hands it on, through redirects and canonicals; any other ends it.
    """
    index = len(site.crawlers) - 1
    graph = link_graph(site)
    size = graph.size
    state, final, silent, on_site = _columns(site, index, size)
    is_open = state == list(State).index(State.OPEN)
    source, target = graph.sources(), graph.target
    kept = is_open[source] & on_site[target]
    source, target, flags = source[kept], target[kept], graph.flags[kept]
    if not len(source):
        return None
    target = final[target]
    spread = np.bincount(source, minlength=size).astype(np.float64)
    share = 1 / spread[source]
    unfollowed = graph.unfollowed(flags) | silent[source]
    passes = ~unfollowed & is_open[target]
    rank = _rank(source[passes], target[passes], share[passes], is_open)
    weight = rank[source] * share
    total = float(weight.sum())
    lost = ~unfollowed & ~passes
    fates = {UNFOLLOWED_FATE: float(weight[unfollowed].sum()) / total}
    for name in FATES[1:]:
        fates[str(name)] = float(weight[lost & (state[target] == list(State).index(State(name)))].sum()) / total
    counted = [list(State).index(State(name)) for name in FATES[1:]]
    ends = unfollowed | (lost & np.isin(state[target], counted))
    per_target = np.bincount(target[ends], weights=weight[ends], minlength=size) / total
    return LinkFlow(
        site.crawlers[index].token, sum(fates.values()), {n: v for n, v in fates.items() if v > 0},
        _by_section(site, per_target),
    )  # fmt: skip


def _columns(site: Site, index: int, size: int) -> tuple[Any, Any, Any, Any]:
    """By number of address: its state (place in State), where it ends, whether its links are unfollowed, whether on site."""
    names = quoted_list(State)
    ids, states, ends, silences, here = arrays(
        site.con,
        f"""SELECT id, list_position([{names}], {site.state_sql(index)}) - 1 AS state, coalesce(folds_into, id) AS final,
        nofollow & {1 << index} > 0 AS silent, site FROM fact""",
    )
    state = np.full(size, list(State).index(State.UNREAD), dtype=np.int8)
    state[ids] = states
    final = np.arange(size)
    final[ids] = ends
    silent, on_site = np.zeros(size, dtype=bool), np.zeros(size, dtype=bool)
    silent[ids] = silences
    on_site[ids] = here
    return state, final, silent, on_site


def _rank(source: Any, target: Any, share: Any, is_open: npt.NDArray[np.bool_]) -> npt.NDArray[np.float64]:
    """The stationary distribution of the walk, by power iteration; what is lost begins again."""
    size = len(is_open)
    begin = is_open / max(1, int(is_open.sum()))
    rank: npt.NDArray[np.float64] = begin.astype(np.float64)
    for _ in range(ROUNDS):
        onward = DAMPING * np.bincount(target, share * rank[source], size).astype(np.float64)
        onward += (1 - float(onward.sum())) * begin
        change = float(np.abs(onward - rank).sum())
        rank = onward
        if change < CLOSE_ENOUGH:
            break
    return rank


def _by_section(site: Site, per_target: npt.NDArray[np.float64]) -> dict[str, float]:
    ids = np.flatnonzero(per_target)
    found: dict[str, float] = {}
    for number, url in site.rows(
        "SELECT id, origin || path FROM address WHERE id IN (SELECT unnest(?::INTEGER[]))", [ids.tolist()]
    ):
        section = site.section(url)
        found[section] = found.get(section, 0.0) + float(per_target[number])
    return dict(sorted(found.items(), key=lambda pair: (-pair[1], pair[0])))
