"""Who may read what: every crawler known or named, by purpose, with the share of the site that is barred to it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from indrel.core.crawlers import STAR, Crawler, crawler, table
from indrel.core.robots import Access, Paths, Ruleset, Verdict, match_many
from indrel.decide.site import Site


@dataclass(frozen=True)
class MatrixRow:
    """Crawlers of one purpose for which the same rules hold. `barred` is a share of the known addresses."""

    purpose: str
    crawlers: tuple[str, ...]
    group: str | None
    rules: int
    barred: float | None
    sections: dict[str, float]
    differs: bool

    def as_json(self) -> dict[str, object]:
        return {
            "purpose": self.purpose, "crawlers": list(self.crawlers), "group": self.group, "rules": self.rules,
            "barred": self.barred, "sections": self.sections, "differs": self.differs,
        }  # fmt: skip


def matrix_of(verdict: Verdict, site: Site | None) -> list[MatrixRow]:
    """Who may read what: every crawler known or named in the file, by purpose."""
    held, file, access = verdict.ruleset, verdict.file, verdict.access
    every = {**table(), **{a: crawler(a) for a in file.agents}, STAR: Crawler(STAR, STAR, purpose="all others")}
    names = (
        [p for (p,) in site.rows("SELECT path FROM fact WHERE known AND origin = ?", [site.base_origin])]
        if site
        else []
    )
    sections = np.array([site.section(site.base_origin + p) for p in names] if site else [], dtype=np.str_)
    paths = Paths(names)
    groups: dict[tuple[str, object], list[Crawler]] = {}
    for one in every.values():
        rules = held(one)
        groups.setdefault((one.purpose, rules.key), []).append(one)
    general = held(crawler(STAR)).key
    shares: dict[object, tuple[float | None, dict[str, float]]] = {}
    rows = []
    for (purpose, key), members in groups.items():
        rules = held(members[0])
        named = list(dict.fromkeys(name for m in members if (name := held(m).group)))
        group = ", ".join(named) or None
        if key not in shares:
            shares[key] = _shares(rules, paths, sections, access)
        share, parts = shares[key]
        rows.append(
            MatrixRow(purpose, tuple(m.name for m in members), group, len(rules.rules), share, parts, key != general)
        )
    order = ["all others", "search", "ads", "ai-training", "ai-answers", "preview", "archive", "other"]
    return sorted(rows, key=lambda r: (order.index(r.purpose), r.differs, r.group or "", r.crawlers))


def site_matrix(site: Site) -> list[MatrixRow]:
    """The matrix of a site's main host; empty where its robots.txt is not known."""
    host = site.robots.get(site.base_origin)
    return matrix_of(host.verdict, site) if host and host.known else []


def _shares(
    rules: Ruleset, paths: Paths, sections: npt.NDArray[np.str_], access: Access
) -> tuple[float | None, dict[str, float]]:
    """The share of addresses that rules bar, in all and by section where it is not nothing."""
    if not len(paths):
        return None, {}
    bars = np.array([not r.allow for r in rules.rules] + [access is Access.ALL_BARRED])
    barred = bars[match_many(rules.rules, paths)]
    parts = {}
    for name in np.unique(sections):
        share = float(barred[sections == name].mean())
        if share:
            parts[str(name)] = round(share, 4)
    return round(float(barred.mean()), 4), parts
