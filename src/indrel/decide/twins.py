"""Pages with the same content: equal texts, and texts that share nearly all their runs of words.

Near twins are found with the sketches of their own texts (min-wise hashing, in bands), and must then
also have the same heading and lead to the same pages: documents from one template share words, but not those.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from itertools import combinations
from typing import Any, NamedTuple
from urllib.parse import parse_qsl

import numpy as np
import numpy.typing as npt

from indrel.core.page.wording import LEAST_WORDS, SKETCH
from indrel.decide.site import Site

NEAR = 0.94
"""Share of runs of words from which on texts are near twins."""

LONG_ENOUGH = 40
"""Words from which on near twins are looked for: of short texts, one word is too large a share."""

BANDS = 8
_ROWS = SKETCH // BANDS
LINKS_ALIKE = 0.8
MOST_OF_A_BAND = 200
"""Pages of one band that are compared with each other; more share what is no sign of anything."""


class Twins(NamedTuple):
    """Open pages with the same content: their numbers and addresses, the shortest first, and whether only nearly."""

    ids: tuple[int, ...]
    urls: tuple[str, ...]
    mask: int
    near: bool


def open_twins(site: Site) -> list[Twins]:
    """Groups of pages that are open with the same content, none of them folded."""
    rows = site.rows(
        f"""SELECT f.id, f.origin || f.path, f.open, p.text_hash, p.sketch, p.own_words, p.text_length,
            coalesce(p.heading, p.title) FROM fact f
        JOIN page p ON p.address = f.id
        WHERE f.site AND NOT f.closed AND f.open > 0 AND p.own_words >= {LEAST_WORDS} AND p.problem IS NULL
        AND f.kind NOT IN ('parameter-variant', 'search-results', 'feed') ORDER BY f.id"""
    )
    exact: dict[int, list[int]] = defaultdict(list)
    for at, row in enumerate(rows):
        exact[row[3]].append(at)
    groups = [(members, False) for members in exact.values() if len(members) > 1]
    firsts = [members[0] for members in exact.values()]
    long = [at for at in firsts if rows[at][4] is not None and rows[at][5] >= LONG_ENOUGH]
    pairs = list(_near_pairs([rows[at][4] for at in long]))
    near = _joined((long[a], long[b]) for a, b in pairs if _same_document(rows[long[a]], rows[long[b]]))
    if near:
        links = _targets(site, [rows[at][0] for group in near for at in group])
        for group in near:
            kept = [
                at for at in group if _links_agree(links.get(rows[group[0]][0], set()), links.get(rows[at][0], set()))
            ]
            if len(kept) > 1:
                groups.append((sorted({m for at in kept for m in exact[rows[at][3]]}), True))
    found = []
    covered: set[int] = set()
    for members, is_near in sorted(groups, key=lambda g: -len(g[0])):
        if covered.issuperset(members):
            continue
        covered.update(members)
        chosen = sorted((rows[at] for at in members), key=lambda r: (len(r[1]), r[1]))
        mask = 0
        for one, other in combinations(chosen[:20], 2):
            mask |= one[2] & other[2]
        if mask:
            found.append(Twins(tuple(r[0] for r in chosen), tuple(r[1] for r in chosen), mask, is_near))
    return sorted(found, key=lambda t: t.urls[0])


def _same_document(one: tuple[Any, ...], other: tuple[Any, ...]) -> bool:
    """Whether lengths and headings agree: documents from one template have headings of their own."""
    lengths = one[6], other[6]
    return bool(abs(lengths[0] - lengths[1]) <= 0.05 * max(lengths) and one[7] == other[7])


def _links_agree(one: set[int], other: set[int]) -> bool:
    return not (one or other) or len(one & other) >= LINKS_ALIKE * len(one | other)


def _targets(site: Site, ids: Iterable[int]) -> dict[int, set[int]]:
    """Per page what it links to."""
    found: dict[int, set[int]] = defaultdict(set)
    for source, target in site.rows(
        "SELECT source, target FROM link WHERE source IN (SELECT unnest(?::INTEGER[]))", [sorted(set(ids))]
    ):
        found[source].add(target)
    return found


def _near_pairs(sketches: list[bytes]) -> Iterator[tuple[int, int]]:
    """Positions of sketches whose runs of words are nearly the same."""
    if len(sketches) < 2:
        return
    runs: npt.NDArray[np.uint16] = np.frombuffer(b"".join(sketches), dtype=np.uint16).reshape(len(sketches), -1)[
        :, :SKETCH
    ]
    done: set[tuple[int, int]] = set()
    for band in range(BANDS):
        keys = np.ascontiguousarray(runs[:, band * _ROWS : (band + 1) * _ROWS]).view(np.uint64).ravel()
        order = np.argsort(keys, kind="stable")
        edges = np.flatnonzero(np.diff(keys[order])) + 1
        for group in np.split(order, edges):
            if 1 < len(group) <= MOST_OF_A_BAND:
                for a, b in combinations(sorted(group.tolist()), 2):
                    if (a, b) not in done:
                        done.add((a, b))
                        if float((runs[a] == runs[b]).mean()) >= NEAR:
                            yield a, b


def _joined(pairs: Iterable[tuple[int, int]]) -> list[list[int]]:
    """Pairs joined to groups; each group begins with its smallest."""
    leader: dict[int, int] = {}

    def root(one: int) -> int:
        while leader.setdefault(one, one) != one:
            leader[one] = leader[leader[one]]
            one = leader[one]
        return one

    for a, b in pairs:
        low, high = sorted((root(a), root(b)))
        leader[high] = low
    groups: dict[int, list[int]] = defaultdict(list)
    for one in sorted(leader):
        groups[root(one)].append(one)
    return [g for g in groups.values() if len(g) > 1]


def idle_parameters(urls: Iterable[str]) -> list[str]:
    """The query parameters in which addresses differ, if they differ in nothing else."""
    queries = []
    bases = set()
    for url in urls:
        base, _, query = url.partition("?")
        bases.add(base)
        queries.append(dict(parse_qsl(query, keep_blank_values=True)))
    if len(bases) > 1:
        return []
    names = sorted({n for q in queries for n in q})
    return [n for n in names if len({q.get(n) for q in queries}) > 1]
