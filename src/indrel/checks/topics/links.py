"""Links: what they lead to, and what they keep from being reached."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from indrel.checks.catalogue import Hit, Need, check
from indrel.checks.evidence import answers, links_to, listings, picked, said
from indrel.core.model import CheckClass, Severity, plural
from indrel.decide.graph import LinkGraph
from indrel.decide.site import Site

MOST_NAMED = 200
"""Pages named beside a finding."""


@check("only-nofollow-path", CheckClass.BLOCKED, Severity.FIX, rests_on_want=True, needs=(Need.LINKS, Need.COMPLETE))
def only_nofollow_path(site: Site) -> Iterator[Hit]:
    """A wanted page is linked, but every path to it needs a link that is not followed.

    Why: A crawler that obeys nofollow never comes to the page by links, and the page gets no weight from the site.
    Mend: Take nofollow (ugc, sponsored) off one link on the way, or off the page that links to it.
    Rests on: WHATWG HTML: rel=nofollow; that ugc and sponsored count likewise is engine practice.
    Evidence: The unfollowed link to the page, or the page-wide nofollow in the way, and the sitemap entry.
    """
    start = site.start_id
    if start is None or not site.one("SELECT count(*) FROM link"):
        return
    wanted = site.rows(
        "SELECT id, origin || path, barred FROM fact WHERE site AND (listed OR named) AND NOT start "
        "AND followed + unfollowed > 0 ORDER BY origin, path"
    )
    if not wanted or not _has_unfollowed(site):
        return
    graph = LinkGraph(site)
    missed = np.zeros(len(wanted), dtype=np.int64)
    ids = np.array([row[0] for row in wanted])
    allowed = ~np.array([row[2] for row in wanted], dtype=np.int64)
    done: dict[tuple[int, ...], npt.NDArray[np.bool_]] = {}
    for i in range(len(site.crawlers)):
        key = _view(site, i)
        if key not in done:
            done[key] = ~graph.reached(start, i)[ids]
            if done[key].any():
                done[key] &= graph.reached(start, i, obey=False)[ids]
        missed |= np.where(done[key], 1 << i, 0)
    missed &= allowed
    hits = [(row, int(mask)) for row, mask in zip(wanted, missed, strict=True) if mask]
    yield from _path_hits(site, hits)


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


def _path_hits(site: Site, hits: list[tuple[tuple[int, str, int], int]]) -> Iterator[Hit]:
    ids = [row[0] for row, _ in hits]
    unfollowed = links_to(site, ids, most=1, unfollowed=True)
    followed = links_to(site, ids, most=1)
    entries = listings(site, ids)
    linking = dict(
        site.rows("SELECT target, source FROM inlink WHERE target IN (SELECT unnest(?))", [ids]) if ids else []
    )
    tags = said(site, linking.values(), site.all_mask, "nofollow")
    for (number, url, _), mask in hits:
        shown = [*unfollowed.get(number, ()), *tags.get(linking.get(number, -1), ())] or followed.get(number, [])
        if number in entries:
            shown.append(entries[number][1])
        yield Hit(
            url,
            mask,
            "is linked, but every path from the start page needs an unfollowed link",
            tuple(shown),
            implied=True,
        )


@check("link-to-gone", CheckClass.FLAW, Severity.FIX)
def link_to_gone(site: Site) -> Iterator[Hit]:
    """Pages link to an address of the site that is gone or broken.

    Why: Visitors and crawlers run into an error, and the weight of the links is lost.
    Mend: Point the links at the page that took its place, or take them out; redirect the address if it moved.
    Rests on: RFC 9110 section 15.5 and 15.6: 4xx and 5xx say that there is nothing to be had.
    Evidence: What the address answers, and the links.
    """
    found = site.rows(
        "SELECT id, origin || path, barred, followed + unfollowed FROM fact WHERE site AND tail IN ('gone', 'broken') "
        "AND followed + unfollowed > 0 ORDER BY origin, path"
    )
    ids = [row[0] for row in found]
    shown, links, pages = answers(site, ids), links_to(site, ids), linking_pages(site, ids)
    for number, url, barred, _ in found:
        mask = site.all_mask & ~barred
        if mask:
            also = pages.get(number, [])
            what = shown[number][0].text
            message = f"answers “{what}”, and {plural(len(also), 'page')} {'links' if len(also) == 1 else 'link'} to it"
            yield Hit(url, mask, message, (*shown[number], *links.get(number, ())), also=tuple(also[:MOST_NAMED]))


def linking_pages(site: Site, ids: list[int]) -> dict[int, list[str]]:
    """Per address the pages that link to it."""
    found: dict[int, list[str]] = {}
    with picked(site, ids):
        for target, url in site.rows(
            """SELECT DISTINCT l.target, a.origin || a.path AS url FROM link l JOIN picked ON picked.id = l.target
            JOIN address a ON a.id = l.source ORDER BY l.target, url"""
        ):
            found.setdefault(target, []).append(url)
    return found
