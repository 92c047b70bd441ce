"""The first line: the state of the site in the reader's terms, counted in URLs."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from indrel.base.readable import readable_host
from indrel.checks.causes import Mark
from indrel.checks.evidence import UNWANTED
from indrel.core.address import split
from indrel.core.model import CheckClass, Evidence, Finding, Headline, Severity, listing, moment, plural, verb
from indrel.decide.kinds import ASSET_SQL
from indrel.decide.site import Site

WHOLE_SITE = (
    "start-not-open", "robots-unreachable", "site-barred", "site-noindex", "links-to-closed-host", "host-open",
)  # fmt: skip
"""Checks about a whole host; for the audited one they are the whole first line."""

CLOSED_HOST = "canonical-to-closed-host"


def name_of(site: Site) -> str:
    """What was audited, as answers name it: the host, and the folder or file that was read for it."""
    location, host = str(site.meta["source"]["location"]), readable_host(split(site.base).host)
    return host if "://" in location else f"{host} ({location})"


def spoken_of(site: Site, bare: bool = False) -> str:
    """The beginning of every first line: the site, the time of the audit, and whether it is incomplete; `bare` without the folder."""
    name = split(site.base).host if bare else name_of(site)
    when = moment(site.meta.get("started"))
    because = site.meta.get("incomplete_because") or "it was interrupted"
    return f"{name}, {when}{'' if site.complete else f', incomplete: {because}'}" if when else name


class _Counts(NamedTuple):
    """Pages that are wanted, those of them that are lost, unwanted pages that are open, lost files that are no pages, and
    wanted pages that were not read."""

    wanted: int
    lost: int
    exposed: int
    assets: int
    unread: int


def headline(site: Site, found: Sequence[Mark], told: Callable[[Mark], Finding]) -> Headline:
    """Count URLs, and put the counts into sentences; `told` gives the finding of a mark."""
    exposed = _exposed(site)
    counts = site.named(
        _Counts,
        f"""SELECT count(*) FILTER (page AND want = 'show'), count(*) FILTER (page AND {_LOST}),
        count(*) FILTER (page AND ({exposed})), count(*) FILTER (NOT page AND {_LOST}),
        count(*) FILTER (page AND want = 'show' AND tail = 'unread' AND NOT ({_LOST})) FROM ({_counted(site)})""",
    )[0]
    grave = [m for m in found if m.severity in (Severity.STOP, Severity.FIX) and not m.accepted]
    halted = next((m for m in grave if m.check == "site-nofollow" and m.url == site.base_origin + "/"), None)
    grave = [m for m in grave if m is not halted]
    conflicts, flaws = (len({m.address for m in grave if m.cls is c}) for c in (CheckClass.CONFLICT, CheckClass.FLAW))
    beside = sorted({m.address for m in grave if m.cls in (CheckClass.BLOCKED, CheckClass.EXPOSED)})
    others = (
        site.one(
            f"""SELECT count(*) FROM fact WHERE origin || path IN (SELECT unnest(?::VARCHAR[]))
        AND id NOT IN ({lost_pages(site)}) AND NOT ({exposed})""",
            [beside],
        )
        if beside
        else 0
    )
    whole = next((m for m in _whole(site, found) if not m.accepted), None)
    if whole:
        first = told(whole)
        text = _share(site, found, first) if whole.check == CLOSED_HOST else first.message.removesuffix(".")
        said = f"{text}{_for_whom(site, whole)}{_place(first.evidence)}"
    else:
        said = _verdict(counts, conflicts, flaws, int(others), len(grave) + bool(halted))
        said = f"{told(halted).message} {said}" if halted else said
    if site.traits.is_live and not site.traits.can_ask_again and not _knows_robots(site):
        said = f"robots.txt is {site.traits.lacks}, so what it blocks is unknown. {said}"
    return Headline(
        spoken_of(site), said, counts.wanted, counts.lost, counts.exposed, conflicts, flaws, whole is not None
    )


def _knows_robots(site: Site) -> bool:
    host = site.robots.get(site.base_origin)
    return host is not None and host.known


def _share(site: Site, found: Sequence[Mark], first: Finding) -> str:
    """How many pages point to a host that visitors cannot reach."""
    pages = len({m.address for m in found if m.check == CLOSED_HOST})
    every = int(site.one("SELECT count(*) FROM fact WHERE site AND html AND status < 300"))
    host = split(first.also[0]).host if first.also else "a host"
    return f"The canonicals of {pages:,} of {plural(every, 'page')} point to {host}, which visitors cannot reach"


_LOST = "(want = 'show' AND NOT met AND (barred > 0 OR hidden > 0 OR tail NOT IN ('', 'unread')))"
"""Over the rows of `_counted`."""


def _exposed(site: Site) -> str:
    # a feed without a stated want is a note, not an exposure
    unwanted = f"{_refused(site)} AND open > 0 AND NOT (kind = 'feed' AND entry IS NULL)"
    return f"{unwanted} OR {site.is_live} AND closed AND {site.all_mask} & ~barred & ~noindex > 0 AND status < 300"


def _counted(site: Site) -> str:
    """The rows of `fact` that count, with `page` and `met`, as SQL.

    Variants of one page count once (scheme, www, slash, index file, parameters): one that leads to another wanted one, or has
    the same text, is that page; one that leads to an open page that nothing wants is met by it. An entry of the intent file
    that names one URL means that URL.
    """
    form, of_target = site.terms.form("f"), site.terms.form("t")
    # both sides apart and narrow: a window over whole rows took ten times as long
    variants = f"""SELECT f.id, t.want = 'show' AS counted_there, t.open & ~f.barred > 0 AS met
        FROM fact f JOIN fact t ON t.id = coalesce(f.folds_into, f.folds_to)
        WHERE f.want = 'show' AND {site.terms.by_pattern("f")} AND t.id <> f.id AND {form} = {of_target}"""
    twins = f"""SELECT id FROM (SELECT f.id, row_number() OVER (
            PARTITION BY {form}, f.text_hash ORDER BY length(f.path), f.path, f.origin) AS rank
        FROM fact f WHERE f.known AND f.want = 'show' AND f.open > 0 AND f.text_hash IS NOT NULL) WHERE rank > 1"""
    return f"""SELECT f.*, coalesce(v.met, false) AS met, NOT {ASSET_SQL} AS page
        FROM fact f LEFT JOIN ({variants}) v ON v.id = f.id
        WHERE f.known AND NOT coalesce(v.counted_there, false) AND f.id NOT IN ({twins})"""


def wanted_pages(site: Site) -> str:
    """The wanted pages that the first line counts, as a query of their ids."""
    return f"SELECT id FROM ({_counted(site)}) WHERE page AND want = 'show'"


def lost_pages(site: Site) -> str:
    """The numbers of the lost pages that the first line counts, as SQL."""
    return f"SELECT id FROM ({_counted(site)}) WHERE page AND {_LOST}"


def exposed_pages(site: Site) -> str:
    """The numbers of the exposed pages that the first line counts, as SQL."""
    return f"SELECT id FROM ({_counted(site)}) WHERE page AND ({_exposed(site)})"


def _refused(site: Site) -> str:
    """The wants that an open URL is known to contradict. A folder does not tell which headers and logins its server will use,
    and an audit with a login does not tell what can be read without one."""
    if not site.is_live:
        return "(want = 'drop' OR want = 'hide' AND html)"
    return "want IN ('hide', 'drop')" if site.meta.get("with_credentials") else UNWANTED


def _whole(site: Site, found: Iterable[Mark]) -> list[Mark]:
    """The ones that say why the audited host as a whole is blocked, closed, locked or down; the plainest first."""
    own = {site.base, site.base_origin + "/", site.base_origin + "/robots.txt"}
    checks = (*WHOLE_SITE, CLOSED_HOST)
    stops = [m for m in found if m.check in checks and m.url in own and m.severity is Severity.STOP]
    return sorted(stops, key=lambda m: (-len(m.crawlers), checks.index(m.check)))


def _for_whom(site: Site, mark: Mark) -> str:
    return "" if len(mark.crawlers) == len(site.crawlers) else f", for {listing(mark.crawlers)}"


def _place(evidence: Sequence[Evidence]) -> str:
    if not evidence or not evidence[0].line:
        return ""
    return f" ({evidence[0].where}:{evidence[0].line})"


def _verdict(counts: _Counts, conflicts: int, flaws: int, others: int, serious: int) -> str:
    """The counts in sentences: what is lost, what is exposed, what else there is to fix."""
    sentences = [_of_wanted(counts)]
    if counts.exposed:
        can = "1 unwanted page can" if counts.exposed == 1 else f"{counts.exposed:,} unwanted pages can"
        sentences.append(can if counts.lost else f"{can} be indexed too")
    rest = [(conflicts, "with conflicts"), (flaws, "with flaws"), (others, "blocked or exposed")]
    what = [(count, words) for count, words in rest if count]
    if what:
        first = f"{plural(what[0][0], 'URL')} {what[0][1]}"
        also = "Also to fix" if counts.lost or counts.exposed else "To fix"
        sentences.append(f"{also}: {listing([first, *(f'{count:,} {words}' for count, words in what[1:])])}")
    elif not counts.lost and not counts.exposed:
        sentences.append(f"{plural(serious, 'thing')} to fix" if serious else "Nothing to fix")
    if counts.assets:
        files = plural(counts.assets, "file")
        sentences.append(f"{files} such as scripts or images {verb(counts.assets)} lost too")
    return ". ".join(sentences)


def _of_wanted(counts: _Counts) -> str:
    wanted, lost, unread = counts.wanted, counts.lost, counts.unread
    if not wanted:
        return "No page is known to be wanted"
    if lost:
        read = f" ({unread:,} {verb(unread, 'was', 'were')} not read)" if unread else ""
        return f"{lost:,} of {plural(wanted, 'wanted page')} cannot be indexed{read}"
    if unread == wanted:
        return f"None of {plural(wanted, 'wanted page')} was read"
    if unread:
        known = wanted - unread
        return f"{known:,} of {wanted:,} wanted pages {verb(known, 'was read, and it', 'were read, and all of them')} can be indexed"
    every = {1: "The only wanted page", 2: "Both wanted pages"}.get(wanted, f"All {wanted:,} wanted pages")
    return f"{every} can be indexed"
