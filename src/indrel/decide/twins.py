"""Pages with the same content: equal texts, and texts that share nearly all their runs of words.

Near twins are found with the sketches of their own texts (min-wise hashing, in bands), and must then
also have the same heading and lead to the same pages: documents from one template share words, but not those.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from itertools import combinations
from typing import Any, NamedTuple
from urllib.parse import parse_qsl

from indrel.core.page.facts import LEAST_WORDS, SKETCH
from indrel.core.relation import FILE, PARAMETERS, PART, SLASH, relation
from indrel.decide.site import Site

NEAR = 0.9
"""Share of runs of words from which on texts are near twins."""

LONG_ENOUGH = 40
"""Words from which on near twins are looked for: of short texts, one word is too large a share."""

SHELL_WORDS = 40
"""Pages served with fewer words are compared as they are rendered, where they were: an app's shell is one text everywhere."""

_SEEN = f"r.address IS NOT NULL AND p.own_words < {SHELL_WORDS}"
WORDING = f"""SELECT p.address AS id, CASE WHEN {_SEEN} THEN r.text_hash ELSE p.text_hash END AS text_hash,
    CASE WHEN {_SEEN} THEN r.sketch ELSE p.sketch END AS sketch,
    CASE WHEN {_SEEN} THEN r.own_words ELSE p.own_words END AS own_words,
    coalesce(CASE WHEN {_SEEN} THEN r.title END, p.heading, p.title, '') AS named
    FROM page p LEFT JOIN (SELECT DISTINCT ON (address) * FROM render WHERE outcome = 'ok' ORDER BY address, mask) r
    ON r.address = p.address"""
"""What stands on each page, for comparing: a select of its number, text hash, sketch, words and name. The join's condition
speaks of nothing but the join: the database's 2.0 fails to plan one that statistics show never to hold."""

BANDS = 8
_ROWS = SKETCH // BANDS
LINKS_ALIKE = 0.8
APART = 0.05
"""Share by which the lengths of near twins may differ."""

MOST_OF_A_BAND = 200
"""Pages of one band that are compared with each other; more share what is no sign of anything."""
_PAIRS_AT_ONCE = 200_000


class Twins(NamedTuple):
    """Open pages with the same content: their numbers and addresses, the shortest first, and whether only nearly."""

    ids: tuple[int, ...]
    urls: tuple[str, ...]
    mask: int
    near: bool


def open_twins(site: Site) -> list[Twins]:
    """Groups of pages that are open with the same content, none of them folded; not of the ones that are not to be open at all."""
    site.con.execute(
        f"""CREATE OR REPLACE TEMP TABLE twinnable AS
        SELECT f.id, w.text_hash, w.sketch, w.own_words
        FROM fact f JOIN page p ON p.address = f.id JOIN ({WORDING}) w ON w.id = f.id
        WHERE f.site AND NOT f.closed AND f.open > 0 AND p.problem IS NULL AND w.own_words >= {LEAST_WORDS}
        AND f.want NOT IN ('hide', 'lock', 'drop')"""
    )
    exact: dict[int, list[int]] = defaultdict(list)
    for number, digest in site.rows(
        """SELECT id, text_hash FROM twinnable WHERE text_hash IN (
            SELECT text_hash FROM twinnable GROUP BY text_hash HAVING count(*) > 1) ORDER BY id"""
    ):
        exact[digest].append(number)
    pairs = _near_pairs(site)
    pages = _pages(site, {n for group in exact.values() for n in group} | {n for pair in pairs for n in pair})
    exact = {digest: [n for n in members if not pages[n].is_of_its_path] for digest, members in exact.items()}
    groups = [(members, False) for members in exact.values() if len(members) > 1]
    alike = _joined(pair for pair in pairs if _same_document(pages[pair[0]], pages[pair[1]]))
    for kept in _lead_alike(site, alike, pages):
        if len(kept) > 1:
            groups.append((sorted({m for n in kept for m in exact.get(pages[n].digest, [n])}), True))
    found = []
    covered: set[int] = set()
    for members, is_near in sorted(groups, key=lambda g: (-len(g[0]), g[0])):
        if covered.issuperset(members):
            continue
        covered.update(members)
        chosen = sorted((pages[n] for n in members), key=lambda p: (len(p.url), p.url))
        mask = 0
        for one, other in combinations(chosen[:20], 2):
            mask |= one.open & other.open
        if mask:
            found.append(Twins(tuple(p.id for p in chosen), tuple(p.url for p in chosen), mask, is_near))
    return sorted(found, key=lambda t: t.urls[0])


class _Page(NamedTuple):
    """What is compared of a page beside its sketch."""

    id: int
    url: str
    open: int
    digest: int
    length: int
    heading: str | None
    words: int

    @property
    def is_of_its_path(self) -> bool:
        """Whether the page is headed by its own path, as a server's list of a folder: texts are compared without it."""
        return self.url[self.url.index("/", 8) :] in (self.heading or "")


def _pages(site: Site, ids: Iterable[int]) -> dict[int, _Page]:
    rows = site.rows(
        """SELECT f.id, f.origin || f.path, f.open, p.text_hash, p.text_length, coalesce(p.heading, p.title), p.own_words
        FROM fact f JOIN page p ON p.address = f.id WHERE f.id IN (SELECT unnest(?::INTEGER[]))""",
        [sorted(ids)],
    )
    return {row[0]: _Page(*row) for row in rows}


def _same_document(one: _Page, other: _Page) -> bool:
    """Whether lengths and headings agree: documents from one template have headings of their own. A view of a page lacks the menus:
    of it, the page's own words are counted."""
    if one.heading != other.heading:
        return False
    close = abs(one.length - other.length) <= APART * max(one.length, other.length)
    return close or (abs(one.words - other.words) <= APART * max(one.words, other.words) and _is_view(one, other))


def _lead_alike(site: Site, groups: Sequence[Sequence[int]], pages: Mapping[int, _Page]) -> list[list[int]]:
    """Per group, the pages with nearly the same links as its first page; of another view of it, such as a print copy, all of its
    links may be among the page's, because it lacks the menus."""
    if not groups:
        return []
    sizes = [len(group) for group in groups]
    import numpy as np

    from indrel.base.arrow import pa

    paired = pa.table({
        "first": pa.array(np.repeat([group[0] for group in groups], sizes), pa.int32()),
        "id": pa.array([n for group in groups for n in group], pa.int32()),
    })  # fmt: skip
    site.con.register("paired", paired)
    try:
        agreeing = site.rows(
            f"""WITH lead AS (SELECT DISTINCT source, target FROM link WHERE source IN (SELECT id FROM paired)),
                held AS (SELECT source, count(*) AS n FROM lead GROUP BY source),
                common AS (SELECT p.id, count(*) AS n FROM paired p JOIN lead a ON a.source = p.first
                    JOIN lead b ON b.source = p.id AND b.target = a.target GROUP BY p.id)
            SELECT p.id, coalesce(c.n, 0) >= {LINKS_ALIKE} * (coalesce(a.n, 0) + coalesce(b.n, 0) - coalesce(c.n, 0))
            FROM paired p LEFT JOIN held a ON a.source = p.first LEFT JOIN held b ON b.source = p.id
            LEFT JOIN common c ON c.id = p.id
            WHERE coalesce(c.n, 0) >= {LINKS_ALIKE} * least(coalesce(a.n, 0), coalesce(b.n, 0))"""
        )
    finally:
        site.con.unregister("paired")
    kept = dict(agreeing)
    return [
        [n for n in group if kept.get(n) or (n in kept and _is_view(pages[group[0]], pages[n]))] for group in groups
    ]


def _is_view(one: _Page, other: _Page) -> bool:
    """Whether one URL is another view of the other: the same but for a word, parameters or its form, not for a number."""
    found = relation(one.url, other.url)
    words = "".join(part.strip("-+=") for part in found.parts)
    return found.kind in (PARAMETERS, FILE, SLASH) or (found.kind == PART and any(c.isalpha() for c in words))


def _near_pairs(site: Site) -> list[tuple[int, int]]:
    """Pages whose runs of words are nearly the same; of pages with equal texts only the first is looked at."""
    long = f"sketch IS NOT NULL AND own_words >= {LONG_ENOUGH}"
    if site.one(f"SELECT count(DISTINCT text_hash) FROM twinnable WHERE {long}") < 2:
        return []
    import numpy as np

    import indrel.base.arrow  # noqa: F401  # settles the array library before its first array

    table: Any = site.con.sql(
        f"SELECT min(id) AS id, any_value(sketch) AS sketch FROM twinnable WHERE {long} GROUP BY text_hash ORDER BY id"
    ).to_arrow_table()
    ids = table.column("id").to_numpy()
    octets = b"".join(
        np.frombuffer(c.buffers()[2], dtype=np.uint8)[_span(c)].tobytes() for c in table.column("sketch").chunks
    )
    runs = np.frombuffer(octets, dtype=np.uint16).reshape(len(ids), -1)[:, :SKETCH]
    found: set[tuple[int, int]] = set()
    for band in range(BANDS):
        keys = np.ascontiguousarray(runs[:, band * _ROWS : (band + 1) * _ROWS]).view(np.uint64).ravel()
        order = np.argsort(keys, kind="stable")
        edges = np.flatnonzero(np.diff(keys[order])) + 1
        starts, ends = np.r_[0, edges], np.r_[edges, len(order)]
        for size in np.unique(ends - starts).tolist():  # groups of one size at a time
            if 1 < size <= MOST_OF_A_BAND:
                begins = starts[ends - starts == size]
                one, other = np.triu_indices(size, 1)
                step = max(1, _PAIRS_AT_ONCE // len(one))
                for at in range(0, len(begins), step):
                    members = np.sort(order[begins[at : at + step, None] + np.arange(size)], axis=1)
                    a, b = members[:, one].ravel(), members[:, other].ravel()
                    near = (runs[a] == runs[b]).mean(axis=1) >= NEAR
                    found.update(zip(ids[a[near]].tolist(), ids[b[near]].tolist(), strict=True))
    return sorted(found)


def _span(chunk: Any) -> slice:
    """The bytes of an Arrow array of binary values within its buffer."""
    import numpy as np

    offsets = np.frombuffer(chunk.buffers()[1], dtype=np.int32)[chunk.offset : chunk.offset + len(chunk) + 1]
    return slice(int(offsets[0]), int(offsets[-1]))


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
