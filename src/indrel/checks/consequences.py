"""Consequences are silent: what follows from a cause that is told is not told again.

Where one row says why a whole host is shut, hidden or open against what was declared, the rows that
merely follow from it on that host are left out; on a host declared closed nothing is told but that it is open.
"""

from __future__ import annotations

from collections.abc import Iterable

from indrel.checks.catalogue import Follows, checks
from indrel.checks.causes import Mark
from indrel.decide.site import Site

_SHUTS = ("robots-unreachable", "site-barred", "site-noindex", "start-not-open")


def without_consequences(site: Site, found: Iterable[Mark]) -> list[Mark]:
    """Marks without those that follow from others; of some crawlers only, they are kept for the rest."""
    found = list(found)
    shut = _shut(site, found)
    nofollow = {c for m in found if m.check == "site-nofollow" for c in m.crawlers}
    starts: dict[str, set[str]] = {}
    blind: set[str] = set()
    for mark in (m for m in found if m.check == "start-not-open"):
        for url in {mark.url, site.fronts.get(_origin(mark.url), "")}:
            starts.setdefault(url, set()).update(mark.crawlers)
        if _origin(mark.url) == site.base_origin:
            blind |= set(mark.crawlers) - _led_on(site, mark.url)
    visits = {m.url for m in found if m.check == "script-needs-visit"}
    soft = {m.url: m.crawlers for m in found if m.check == "soft-missing"}
    closed = {f"{s}://{h}" for h in site.intent.closed for s in ("https", "http")}
    if not (shut or nofollow or starts or visits or soft or closed):
        return found
    kept, about = [], checks()
    for mark in found:
        url = mark.address
        origin = _origin(url)
        if origin in closed and mark.check != "host-open":
            continue
        follows = about[mark.check].follows
        if url in visits and Follows.NEEDED_VISIT in follows:
            continue
        gone: set[str] = set()
        if Follows.SHUT_HOST in follows and mark.check != "start-not-open":
            gone |= starts.get(url, set())
        elsewhere = mark.check == "resource-barred" and origin != site.base_origin  # pages of another host miss it
        for check, crawlers in () if elsewhere else shut.get(origin, {}).items():
            if _follows(mark.check, follows, check):
                gone |= crawlers
        if Follows.NOFOLLOW in follows and origin == site.base_origin:
            gone |= nofollow | blind
        if Follows.SOFT_404 in follows:
            gone.update(soft.get(url, ()))
        left = tuple(c for c in mark.crawlers if c not in gone) if gone else mark.crawlers
        if left:
            mark.crawlers = left
            kept.append(mark)
    return kept


def _led_on(site: Site, start: str) -> set[str]:
    """The crawlers for which a start page that is not open leads to other pages all the same: it is read, and followed."""
    rows = site.rows(
        f"SELECT {site.all_mask} & ~barred & ~nofollow FROM fact WHERE origin || path = ? AND read AND status < 300",
        [start],
    )
    return set(site.names(rows[0][0])) if rows else set()


def _shut(site: Site, found: Iterable[Mark]) -> dict[str, dict[str, set[str]]]:
    """Per origin the rows that say why a host is shut, and for which crawlers."""
    shut: dict[str, dict[str, set[str]]] = {}
    for mark in sorted((m for m in found if m.check in _SHUTS), key=lambda m: _SHUTS.index(m.check)):
        if _speaks_of_host(site, mark):
            shut.setdefault(_origin(mark.url), {}).setdefault(mark.check, set()).update(mark.crawlers)
    return shut


def _follows(check: str, follows: Follows, cause: str) -> bool:
    if check == cause:
        return False
    if check in _SHUTS:  # of several that say why, the first in order is reported
        return _SHUTS.index(check) > _SHUTS.index(cause)
    return (Follows.HIDDEN_HOST if cause == "site-noindex" else Follows.SHUT_HOST) in follows


def _speaks_of_host(site: Site, mark: Mark) -> bool:
    """A start page that is hidden or leads away does not shut the rest; one that is down, locked or barred does not either,
    unless hardly anything else of the host could be read."""
    if mark.check != "start-not-open":
        return True
    read, good = site.rows(
        "SELECT count(*) FILTER (read), count(*) FILTER (read AND status < 300) FROM fact WHERE origin = ? AND known",
        [_origin(mark.url)],
    )[0]
    return bool((good == 0 and read <= 3) or (read and good < 0.1 * read))


def _origin(url: str) -> str:
    """Of an address; of a file in a folder it is the file."""
    scheme, colon, rest = url.partition("://")
    return f"{scheme}://{rest.partition('/')[0]}" if colon else url
