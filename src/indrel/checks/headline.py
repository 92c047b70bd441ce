"""What is said first: the state of the site in the reader's terms, counted in addresses."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from indrel.checks.causes import Mark
from indrel.checks.evidence import UNWANTED
from indrel.core.address import split
from indrel.core.model import CheckClass, Evidence, Finding, Headline, Severity, listing, moment, plural
from indrel.decide.kinds import ASSET_SQL
from indrel.decide.site import Site

WHOLE_SITE = ("start-not-open", "robots-unreachable", "site-barred", "site-noindex", "host-open")
"""Checks that speak of a whole host; of the audited one they are all that is said first."""


def name_of(site: Site) -> str:
    """What was audited, as answers name it: the host, and the folder or file that stands for it."""
    location, host = str(site.meta["source"]["location"]), split(site.base).host
    return host if "://" in location else f"{host} ({location})"


def spoken_of(site: Site) -> str:
    """The beginning of every first line: the site, the audit's moment, and whether it left something out."""
    when = moment(site.meta.get("started"))
    because = site.meta.get("incomplete_because") or "it was broken off"
    return f"{name_of(site)}, {when}{'' if site.complete else f', incomplete: {because}'}" if when else name_of(site)


def headline(site: Site, found: Sequence[Mark], told: Callable[[Mark], Finding]) -> Headline:
    """Count, and say it in a sentence; `told` gives the finding of a mark."""
    exposed = _exposed(site)
    wanted, gone, shown, assets, unread = site.rows(
        f"""SELECT count(*) FILTER (page AND want = 'show'), count(*) FILTER (page AND {_LOST}),
        count(*) FILTER (page AND ({exposed})), count(*) FILTER (NOT page AND {_LOST}),
        count(*) FILTER (page AND want = 'show' AND tail = 'unread' AND NOT ({_LOST})) FROM ({_counted(site)})"""
    )[0]
    grave = [m for m in found if m.severity in (Severity.STOP, Severity.FIX) and not m.accepted]
    halted = next((m for m in grave if m.check == "site-nofollow" and m.url == site.base_origin + "/"), None)
    grave = [m for m in grave if m is not halted]
    conflicts, faults = (len({m.address for m in grave if m.cls is c}) for c in (CheckClass.CONFLICT, CheckClass.FLAW))
    beside = sorted({m.address for m in grave if m.cls in (CheckClass.BLOCKED, CheckClass.EXPOSED)})
    others = site.one(
        f"""SELECT count(*) FROM fact WHERE origin || path IN (SELECT unnest(?::VARCHAR[]))
        AND NOT ({_LOST}) AND NOT ({exposed})""",
        [beside],
    )
    whole = next((m for m in _whole(site, found) if not m.accepted), None)
    if whole:
        first = told(whole)
        said = f"{first.message}{_for_whom(site, whole)}{_place(first.evidence)}"
    else:
        said = f"{_said(wanted, gone, int(unread), shown, conflicts, faults, int(others), len(grave) + bool(halted))}{_beside(assets)}"
        said = f"{told(halted).message}; {said}" if halted else said
    return Headline(spoken_of(site), said, wanted, gone, shown, conflicts, faults, whole is not None)


_LOST = "(want = 'show' AND (barred > 0 OR hidden > 0 OR tail NOT IN ('', 'unread')))"


def _exposed(site: Site) -> str:
    # a feed that nothing states a want for is a note, and no exposure
    unwanted = f"{_refused(site)} AND open > 0 AND NOT (kind = 'feed' AND entry IS NULL)"
    return f"{unwanted} OR {site.is_live} AND closed AND {site.all_mask} & ~barred & ~noindex > 0 AND status < 300"


def _counted(site: Site) -> str:
    """The rows of `fact` that count, with `page`: another form of a wanted page is met by that page."""
    return f"""SELECT *, NOT {ASSET_SQL} AS page FROM fact WHERE known AND id NOT IN (SELECT f.id FROM fact f
        JOIN fact t ON t.id = f.folds_to WHERE f.entry IS NOT NULL AND f.want = 'show' AND {site.terms.another_form})"""


def lost_pages(site: Site) -> str:
    """The numbers of the lost pages that the first line counts, as SQL."""
    return f"SELECT id FROM ({_counted(site)}) WHERE page AND {_LOST}"


def exposed_pages(site: Site) -> str:
    """The numbers of the exposed pages that the first line counts, as SQL."""
    return f"SELECT id FROM ({_counted(site)}) WHERE page AND ({_exposed(site)})"


def _refused(site: Site) -> str:
    """The wants that an open address is known to go against: a folder does not tell what headers and credentials will be
    asked for or sent, and what was asked with credentials does not tell what is to be had without."""
    if not site.is_live:
        return "(want = 'drop' OR want = 'hide' AND html)"
    return "want IN ('hide', 'drop')" if site.meta.get("with_credentials") else UNWANTED


def _whole(site: Site, found: Iterable[Mark]) -> list[Mark]:
    """Those that say why the audited host as a whole is shut, closed, locked or down; the plainest first."""
    own = {site.base, site.base_origin + "/", site.base_origin + "/robots.txt"}
    stops = [m for m in found if m.check in WHOLE_SITE and m.url in own and m.severity is Severity.STOP]
    return sorted(stops, key=lambda m: (-len(m.crawlers), WHOLE_SITE.index(m.check)))


def _for_whom(site: Site, mark: Mark) -> str:
    return "" if len(mark.crawlers) == len(site.crawlers) else f", for {listing(mark.crawlers)}"


def _place(evidence: Sequence[Evidence]) -> str:
    if not evidence or not evidence[0].line:
        return ""
    return f" ({evidence[0].where}:{evidence[0].line})"


def _said(
    wanted: int, lost: int, unread: int, exposed: int, conflicts: int, faults: int, others: int, grave: int
) -> str:
    if not wanted:
        parts = ["no page is known to be wanted"]
    elif lost:
        parts = [f"{lost:,} of {plural(wanted, 'wanted page')} {'is' if lost == 1 else 'are'} lost"]
        parts[0] += f" ({unread:,} {'was' if unread == 1 else 'were'} not read)" if unread else ""
    elif unread == wanted:
        parts = [f"of {plural(wanted, 'wanted page')} none was read"]
    elif unread:
        read = wanted - unread
        parts = [
            f"{read:,} of {wanted:,} wanted pages {'was read, and is' if read == 1 else 'were read, and all are'} open"
        ]
    else:
        every = "both" if wanted == 2 else f"all {wanted:,}"
        parts = [f"{every} wanted pages are open" if wanted > 1 else "the one wanted page is open"]
    if exposed:
        parts.append(f"{plural(exposed, 'unwanted one')} {'is' if exposed == 1 else 'are'} open")
    what = [plural(n, *words) for n, words in ((conflicts, ("conflict",)), (faults, ("fault",))) if n]
    if others:
        what.append(plural(others, "other address to fix", "other addresses to fix"))
    rest = f"{listing(what)} {'remains' if conflicts + faults + others == 1 else 'remain'}" if what else ""
    if not lost and not exposed and not rest:
        return f"{parts[0]}; {plural(grave, 'thing') + ' to fix' if grave else 'nothing to fix'}"
    return ", ".join(parts) + (f"; {rest}" if rest else "")


def _beside(assets: int) -> str:
    """Scripts, images and the like, which are no pages."""
    return f"; also lost: {plural(assets, 'file')} such as scripts or images" if assets else ""
