"""Who may read what: every crawler known or named, by purpose, with the share of the site that is barred to it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from indrel.core.crawlers import STAR, Crawler, crawler, table
from indrel.core.robots import Access, Paths, Ruleset, Verdict, match_many
from indrel.core.robots.compare import never_wins
from indrel.decide.site import Site

FIRST = ("all others", "search", "ads", "ai-training", "ai-answers", "ai-user", "preview", "archive")
"""The purposes that come first, in order; any other that the table of crawlers has follows by name, `other` is the last."""


WHOLE = ("/", "/*", "*")
"""Paths of rules that match every URL."""


def _place(purpose: str) -> tuple[int, str]:
    """Where a purpose stands among all."""
    if purpose in FIRST:
        return FIRST.index(purpose), ""
    return len(FIRST) + (purpose == "other"), purpose


@dataclass(frozen=True)
class MatrixRow:
    """What one crawler may read. `barred` is a share of the known addresses, None where none are known; `reads` is
    `everything`, `part` or `nothing`; `lines` are the rules that say so, as line and text."""

    purpose: str
    crawlers: tuple[str, ...]
    group: str | None
    rules: int
    barred: float | None
    sections: dict[str, float]
    differs: bool
    reads: str
    lines: tuple[tuple[int, str], ...]

    def as_json(self) -> dict[str, object]:
        return {
            "purpose": self.purpose, "crawlers": list(self.crawlers), "group": self.group, "rules": self.rules,
            "barred": self.barred, "sections": self.sections, "differs": self.differs, "reads": self.reads,
            "lines": [{"line": line, "text": text} for line, text in self.lines],
        }  # fmt: skip


@dataclass(frozen=True)
class _Share:
    """What a set of rules comes to."""

    barred: float | None
    sections: dict[str, float]
    reads: str
    lines: tuple[tuple[int, str], ...]


def matrix_of(verdict: Verdict, site: Site | None) -> list[MatrixRow]:
    """Who may read what: every crawler known or named in the file, one row each, by purpose."""
    held, file, access = verdict.ruleset, verdict.file, verdict.access
    every = {**table(), **{a: crawler(a) for a in file.agents}, STAR: Crawler(STAR, STAR, purpose="all others")}
    known = known_paths(site) if site else None
    general = held(crawler(STAR)).key
    shares: dict[object, _Share] = {}
    rows = []
    for one in every.values():
        rules = held(one)
        if rules.key not in shares:
            shares[rules.key] = _share(rules, known, access)
        share = shares[rules.key]
        rows.append(
            MatrixRow(
                one.purpose, (one.name,), rules.group or None, len(rules.rules), share.barred, share.sections,
                rules.key != general, share.reads, share.lines,
            )
        )  # fmt: skip
    return sorted(rows, key=lambda r: (_place(r.purpose), r.crawlers[0].lower()))


def site_matrix(site: Site) -> list[MatrixRow]:
    """The matrix of a site's main host; empty where its robots.txt is not known."""
    host = site.robots.get(site.base_origin)
    return matrix_of(host.verdict, site) if host and host.known else []


class Known(NamedTuple):
    """The known addresses of the main host: their paths, the number of each one's section, and the sections' names."""

    paths: Paths
    section: npt.NDArray[np.int64]
    names: list[str]


def known_paths(site: Site) -> Known | None:
    told: Any = site.con.sql(
        f"SELECT path, {site.sections.sql} AS section FROM fact WHERE known AND origin = ?",
        params=[site.base_origin],
    ).to_arrow_table()
    if not told.num_rows:
        return None
    section = told.column("section").combine_chunks().dictionary_encode()
    return Known(
        Paths(told.column("path").combine_chunks()), section.indices.to_numpy(), section.dictionary.to_pylist()
    )


def _share(rules: Ruleset, known: Known | None, access: Access) -> _Share:
    """The share of addresses that rules bar, in all and by section where it is not nothing, and the lines that do it."""
    if access is Access.ALL_BARRED or known is None:
        beaten = {rule.line for rule, _ in never_wins(rules.rules)}
        told = [r for r in rules.rules if r.line not in beaten]
        bars = [r for r in told if not r.allow]
        shut = access is Access.ALL_BARRED or (any(r.path in WHOLE for r in bars) and len(bars) == len(told))
        reads = "nothing" if shut else "part" if bars else "everything"
        share = None if known is None else 1.0
        return _Share(share, {}, reads, tuple((r.line, r.text) for r in bars))
    decided = match_many(rules.rules, known.paths)
    barred = np.array([not r.allow for r in rules.rules] + [False])[decided]
    hits = np.bincount(known.section, weights=barred) / np.bincount(known.section)
    parts = {name: round(float(part), 4) for name, part in sorted(zip(known.names, hits, strict=True)) if part}
    used = set(np.unique(decided[barred]).tolist())
    share = float(barred.mean())
    return _Share(
        round(share, 4), parts, "nothing" if share == 1 else "part" if share else "everything",
        tuple((r.line, r.text) for n, r in enumerate(rules.rules) if n in used),
    )  # fmt: skip
