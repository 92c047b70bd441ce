"""Consequences are silent: what follows from a cause that is told is not told again.

Where one row says why a whole host is shut, hidden or open against what was declared, the rows that
merely follow from it on that host are left out; on a host declared closed nothing is told but that it is open.
"""

from __future__ import annotations

from collections.abc import Iterable

from indrel.checks.causes import Mark
from indrel.decide.site import Site

FOLLOWS_FROM_SHUT = frozenset({
    "start-not-open", "barred-wanted", "listed-barred", "barred-noindex", "barred-canonical", "barred-to-hide", "barred-unread",
    "robots-overreach", "resource-barred", "noindex-wanted", "listed-hidden", "listed-locked", "listed-broken", "listed-gone",
    "canonical-to-barred", "canonical-to-hidden", "canonical-to-broken", "canonical-to-gone", "canonical-and-noindex",
    "canonical-none", "link-to-shut", "link-to-gone", "noindex-nofollow-hub", "page-nofollow", "only-nofollow-path", "no-path",
    "link-nofollow-inside", "link-mixed", "wanted-unlisted", "sitemap-none", "sitemap-barred", "sitemap-unreadable",
    "sitemap-is-page", "robots-no-sitemap", "robots-rule-unused", "robots-group-replaces-all", "snippet-withheld",
    "script-only", "site-nofollow", "open-unwanted", "junk-open", "missing-answers-200", "noindex-partial", "expiry-passed",
    "robots-missing", "agent-differs", "listed-redirects", "listed-folded", "link-to-redirect", "canonical-off-site",
})  # fmt: skip
"""Rows that can be mere consequences of a host that is shut, hidden or down."""

FOLLOWS_FROM_NOFOLLOW = frozenset({
    "only-nofollow-path", "no-path", "link-nofollow-inside", "page-nofollow", "link-mixed", "noindex-nofollow-hub",
})  # fmt: skip

FOLLOWS_FROM_SOFT_MISSING = frozenset({"link-to-gone", "listed-broken"})
"""What tells again of an address that it is an error page in disguise."""

FOLLOWS_FROM_NEEDED_VISIT = frozenset({"link-to-gone", "listed-gone", "soft-missing"})
"""Rows of an address that only works for those who were on the site before."""

_SHUTS = ("robots-unreachable", "site-barred", "site-noindex", "start-not-open")
_KEPT_OF_HIDDEN = frozenset({
    "barred-noindex", "robots-missing", "robots-rule-unused", "robots-group-replaces-all", "open-unwanted", "junk-open",
    "missing-answers-200", "barred-unread", "barred-to-hide", "agent-differs", "canonical-none", "canonical-to-gone",
    "canonical-to-broken", "listed-redirects", "listed-folded", "link-to-redirect", "canonical-off-site",
    "listed-gone", "listed-broken", "listed-locked", "link-to-gone", "sitemap-unreadable",
    "sitemap-is-page",
})  # fmt: skip
"""Rows that a noindex everywhere does not explain."""


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
    kept = []
    for mark in found:
        url = mark.address
        origin = _origin(url)
        if origin in closed and mark.check != "host-open":
            continue
        if url in visits and mark.check in FOLLOWS_FROM_NEEDED_VISIT:
            continue
        gone: set[str] = set()
        if mark.check in FOLLOWS_FROM_SHUT - {"start-not-open"}:
            gone |= starts.get(url, set())
        elsewhere = mark.check == "resource-barred" and origin != site.base_origin  # pages of another host miss it
        for check, crawlers in () if elsewhere else shut.get(origin, {}).items():
            if _follows(mark.check, check):
                gone |= crawlers
        if mark.check in FOLLOWS_FROM_NOFOLLOW and origin == site.base_origin:
            gone |= nofollow | blind
        if mark.check in FOLLOWS_FROM_SOFT_MISSING:
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


def _follows(check: str, cause: str) -> bool:
    if check == cause:
        return False
    if check in _SHUTS:  # of several that say why, the first in order speaks
        return _SHUTS.index(check) > _SHUTS.index(cause)
    if cause == "site-noindex" and check in _KEPT_OF_HIDDEN:
        return False
    return check in FOLLOWS_FROM_SHUT


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
