"""Runs the catalogue over a site: hits become findings, findings are gathered by cause."""

from __future__ import annotations

import gc
import logging
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import date

from indrel.base.errors import Interrupted
from indrel.base.interruptions import noted
from indrel.checks.catalogue import Check, Need, checks
from indrel.checks.causes import Mark, by_cause, causes_of
from indrel.checks.consequences import find_consequences
from indrel.checks.findings import Collected
from indrel.checks.headline import headline
from indrel.checks.measures import MANY
from indrel.checks.proof import with_proofs
from indrel.core.model import Accepted, Cause, Severity, Skipped, Verdict, plural, tally_of, verb
from indrel.decide.kinds import ASSET_SQL
from indrel.decide.place import placed
from indrel.decide.sample import share_of
from indrel.decide.site import Site
from indrel.decide.sitemaps import left_out
from indrel.snapshot.faults import explained, is_of_one_question

FEW = 3
"""Pages of a section that differ from a cause's, and are named."""

MOST_ASKED = 20
"""Causes for which the few that differ are looked up."""

SELDOM = 200_000
"""New objects after which Python looks for circles of them: findings are many and form none, and looking took a tenth."""

SHELL_ANSWERS = "every URL gets a page that only scripts fill: only rendering shows which URLs exist (--render)"

log = logging.getLogger("indrel")


@contextmanager
def _seldom_collected() -> Iterator[None]:
    before = gc.get_threshold()
    gc.set_threshold(max(SELDOM, before[0]) if before[0] else 0, *before[1:])
    try:
        yield
    finally:
        gc.set_threshold(*before)


@_seldom_collected()
def judge(site: Site, only: Iterable[str] | None = None) -> Verdict:
    """Run the checks (all, or those named) and gather what they find.

    A check that crashes is reported in `crashed`; what it found before is dropped, for it cannot
    be told whether it was right.
    """
    found = Collected(site)
    skipped: list[Skipped] = []
    crashed: list[Skipped] = []
    wanted = set(only) if only is not None else None
    with noted() as interrupted:
        for one in checks().values():
            if wanted is not None and one.id not in wanted:
                continue
            because = why_skipped(one, site)
            if because:
                skipped.append(Skipped(one.id, because))
                continue
            if not site.filled.issuperset(one.feeds):  # nothing that it could find: a query would cost its planning
                continue
            try:
                found.add(one, one.run(site))
            except Exception as error:
                if interrupted():
                    raise Interrupted("interrupted") from error
                meant = explained(error)
                if meant and not is_of_one_question(error, site.con):  # not the check's fault
                    raise meant from error
                log.debug("check %s crashed", one.id, exc_info=True)
                first, _, _ = f"{type(error).__name__}: {error}".partition("\n")
                crashed.append(Skipped(one.id, first[:300]))
    skipped += _partly_skipped(site, {one.check for one in skipped}, wanted)
    soften(site, found.marks)
    accept(site, found.marks, site.today)
    marks = find_consequences(site, found.marks)
    groups = by_cause(marks)
    marks = [mark for members in groups for mark in members]
    counted = [mark for mark in marks if not mark.consequence]
    said = headline(site, counted, found.whole)
    findings = found.in_order(marks)
    causes = with_proofs(site, with_shares(site, causes_of(groups, findings), groups), groups)
    meta = site.meta
    return Verdict(
        source=source_of(site),
        complete=site.complete,
        incomplete_because=meta.get("incomplete_because"),
        crawlers=tuple(c.token for c in site.crawlers),
        addresses=int(site.one("SELECT count(*) FROM fact WHERE known")),
        states=site.state_counts(),
        folded_by=site.folded_by(),
        causes=tuple(c for c in causes if not c.consequence),
        findings=findings[: len(counted)],
        consequences=tuple(c for c in causes if c.consequence),
        tally=tally_of(counted),
        skipped=tuple(skipped),
        crashed=tuple(crashed),
        headline=said,
        notes=notes_of(site),
    )


def _partly_skipped(site: Site, skipped: set[str], wanted: set[str] | None) -> list[Skipped]:
    """Checks that ran, but not on all: of pages that could not be rendered, or that are shells whatever their URL."""
    rendered = site.meta.get("rendered")
    shells = site.shell_hosts if site.holds("probe") and (wanted is None or "soft-missing" in wanted) else []
    unknown = [Skipped("soft-missing", SHELL_ANSWERS)] if shells and "soft-missing" not in skipped else []
    unread = site.one("SELECT count(*) FROM fact WHERE want = 'lock' AND entry IS NOT NULL AND NOT read AND barred > 0")
    if unread and "open-locked" not in skipped:
        because = f"{plural(unread, 'URL')} cannot be checked: blocked by robots.txt; use --read-barred"
        unknown.append(Skipped("open-locked", because))
    if not rendered:
        return unknown
    unseen = site.one("SELECT count(*) FROM render WHERE outcome = 'none'") if site.holds("render") else 0
    count = unseen + rendered.get("unviewed", 0)
    because = f"{plural(count, 'page')} chosen for --render could not be rendered"
    ids = [one.id for one in checks().values() if Need.RENDERED in one.needs and one.id not in skipped]
    return unknown + [Skipped(one, because) for one in ids if count and (wanted is None or one in wanted)]


def notes_of(site: Site) -> tuple[str, ...]:
    """What a reader has to know of how the audit went: patterns of which not every address was read."""
    bounded: dict[str, int] = site.meta.get("bounded") or {}
    cut = site.rows(
        """SELECT f.origin || f.path AS url, p.problem FROM page p JOIN fact f ON f.id = p.address
        WHERE p.problem IS NOT NULL AND f.site ORDER BY url"""
    )
    unread = (
        (
            f"{plural(len(cut), 'page')} {verb(len(cut), 'was', 'were')} not read completely, such as {cut[0][0]} ({cut[0][1]})",
        )
        if cut
        else ()
    )
    told: list[str] = site.meta.get("notes") or []
    left = [
        f"{plural(count, 'URL')} like {shape} {verb(count, 'was', 'were')} not read: only pages of such patterns link to them "
        "(--per-pattern)"
        for shape, count in list(bounded.items())[:20]
    ]
    left += [
        f"{plural(count, 'URL')} {verb(count, 'was', 'were')} not read: only copies of {url} link to "
        f"{verb(count, 'it', 'them')} (--per-pattern)"
        for url, count in list((site.meta.get("copies") or {}).items())[:20]
    ]
    part = (f"there is no page at {site.base}, so the folder is treated as a part of the site",) if site.is_part else ()
    return (
        *_ended_at_home(site),
        *_sampled(site),
        *told,
        *part,
        *unread,
        *left,
        *_unrendered(site),
        *_lost_alone(site),
        *_left_out(site),
    )


def _ended_at_home(site: Site) -> tuple[str, ...]:
    """That the crawl found no way beyond the home page, because all its links lead elsewhere."""
    start = site.front_id
    if start is None or not site.traits.is_whole or not site.meta.get("follow_links", True) or not site.complete:
        return ()
    links, inside, first = site.rows(
        """SELECT count(*), count(*) FILTER (t.site AND t.id <> l.source), min_by(t.origin || t.path, l.line)
        FROM link l JOIN address t ON t.id = l.target WHERE l.source = ?""",
        [start],
    )[0]
    pages = site.one("SELECT count(*) FROM fact WHERE site AND known AND html AND status < 300")
    if not links or inside or pages > 1:
        return ()
    every = "its only link leads" if links == 1 else f"all {links:,} links on it lead"
    return (f"the crawl ended at the home page: {every} to other sites, such as {first}",)


def _sampled(site: Site) -> tuple[str, ...]:
    """What the pages read say of all pages in sitemaps, if a limit left some unread."""
    if not str(site.meta.get("incomplete_because") or "").startswith("--limit"):
        return ()
    shares = [(what, share_of(site, condition)) for what, condition in SAMPLED.items()]
    told = [
        f"{what} {one.value:.1%} (probably {one.low:.1%} to {one.high:.1%})"
        for what, one in shares
        if one and (one.value or what == "noindex")
    ]
    first = next((one for _, one in shares if one), None)
    if first is None:
        return ()
    read = f"from {first.read:,} read, spread over the sections"
    return (f"of the {first.pages:,} URLs in sitemaps that are not blocked, {read}: {', '.join(told)}",)


SAMPLED = {"noindex": "noindex > 0", "gone or broken": "tail IN ('gone', 'broken')"}
"""The shares of a sample that a reader gets, as conditions over `fact`."""


def _lost_alone(site: Site) -> tuple[str, ...]:
    """Pages that the intent file wants shown and that do not exist, without link, sitemap entry or canonical: they count as lost,
    and no check reports them."""
    lost = site.rows(
        f"""SELECT origin || path AS url FROM fact WHERE known AND want = 'show' AND entry IS NOT NULL AND NOT start
        AND NOT {ASSET_SQL} AND tail IN ('gone', 'broken', 'locked') AND followed + unfollowed = 0
        AND NOT listed AND NOT named ORDER BY url"""
    )
    if not lost:
        return ()
    more = f" and {len(lost) - 1:,} more" if len(lost) > 1 else ""
    said = f"{plural(len(lost), 'wanted page')} without links and sitemap entry cannot be indexed: {lost[0][0]}{more}"
    return (f"{said} (indrel list --want show --reached-by nothing)",)


def _left_out(site: Site) -> tuple[str, ...]:
    """What the sitemaps lack: a question for the person who makes them, and no error by itself."""
    sections = left_out(site) if site.complete else []
    if not sections:
        return ()
    count = sum(pages for _, pages in sections)
    where = ", ".join(f"{section} {pages:,}" for section, pages in sections[:3])
    where += f" and {len(sections) - 3:,} more sections" if len(sections) > 3 else ""
    those = verb(
        count, "is not in any sitemap, although similar pages are", "are not in any sitemap, although similar pages are"
    )
    return (f"{plural(count, 'open page')} {those}: {where} (indrel list --missing-from-sitemap)",)


def _unrendered(site: Site) -> tuple[str, ...]:
    """What the browser was to look at and did not, or could not."""
    rendered = site.meta.get("rendered") or {}
    notes = []
    if left := rendered.get("left"):
        notes.append(f"{plural(left, 'more page')} could be rendered (--render-limit)")
    if not site.holds("render"):
        return tuple(notes)
    lost = site.rows(
        "SELECT a.origin || a.path AS url, r.why FROM render r JOIN address a ON a.id = r.address WHERE r.outcome = 'none' ORDER BY url"
    )
    if lost:
        notes.append(f"{plural(len(lost), 'page')} could not be rendered, such as {lost[0][0]} ({lost[0][1]})")
    return tuple(notes)


def soften(site: Site, found: Iterable[Mark]) -> None:
    """Canonical rows of pages that should be hidden are notes: for those, noindex beside a canonical, chains and unlike
    targets are harmless."""
    loud = [
        m
        for m in found
        if m.severity is not Severity.NOTE and m.check.startswith("canonical-") and m.check != "canonical-first-page"
    ]
    if not loud:
        return
    hidden = {url for (url,) in site.rows("SELECT origin || path FROM fact WHERE want = 'hide'")}
    for mark in loud:
        if mark.url in hidden:
            mark.severity = Severity.NOTE


def source_of(site: Site) -> dict[str, object]:
    """What was audited, and when."""
    meta = site.meta
    return {**meta["source"], "started": meta.get("started"), "finished": meta.get("finished")}


def accept(site: Site, found: Iterable[Mark], today: date) -> None:
    """Mark what the intent file accepts."""
    if not site.intent.accepted:
        return
    for mark in found:
        entry = next((a for a in site.intent.accepted if a.holds(mark.check, mark.address, today)), None)
        if entry:
            mark.accepted = Accepted(entry.because, entry.until.isoformat() if entry.until else None)


def why_skipped(one: Check, site: Site) -> str | None:
    """Why a check has to be left out: a fact that it needs was not gathered."""
    host = site.robots.get(site.base_origin)
    reasons = {
        Need.LIVE: None if site.is_live else "a folder has no server responses",
        Need.ROBOTS: None if host and host.known else "robots.txt of the site is unknown",
        Need.COMPLETE: None if site.complete else f"the audit is incomplete: {site.meta.get('incomplete_because')}",
        Need.LINKS: None if site.meta.get("follow_links", True) else "links were not followed",
        Need.PAGES: None if not site.is_lone_file else "no URLs are known (add --from SNAPSHOT)",
        Need.AS_CRAWLERS: None if site.meta.get("as_crawlers") else "pages were not requested as each crawler (--as-crawlers)",
        Need.RENDERED: None if site.meta.get("rendered") else "pages were not rendered (--render)",
        Need.SITEMAPS: None if site.traits.is_whole else f"a URL that is {site.traits.lacks} is unknown",
        Need.BARE: "a login was sent (--header)" if site.meta.get("with_credentials") else None,
        Need.PARTNERS: None if site.intent.partners else "the intent file declares no partners ([links] partners)",
        Need.USER_PARTS: None if site.intent.user_written and list(site.intent.user_written) == site.meta.get("user_parts")
        else "the intent file declares no user-written parts ([links] user_written)" if not site.intent.user_written
        else "user-written parts were not declared when the pages were read",
        Need.INTENT: None if site.intent.where else "no intent file was given (--intent)",
        Need.READ_BARRED: None if not site.is_live or site.meta.get("read_barred") else
        "blocked pages were not read (--read-barred)",
    }  # fmt: skip
    return next((reason for need in one.needs if (reason := reasons[need])), None)


def with_shares(site: Site, causes: list[Cause], groups: list[list[Mark]]) -> list[Cause]:
    """Causes of many pages with their share of the section's pages, and the few that differ."""
    pages = "site AND html AND tail IN ('', 'folded', 'broken')"
    if not any(c.count >= MANY for c in causes):
        return causes
    placed(site)
    there = f"FROM fact f JOIN place p ON p.address = f.id WHERE {pages}"
    totals = dict(site.rows(f"SELECT p.section, count(*) {there} GROUP BY p.section"))
    found = []
    asked = 0
    for cause, members in zip(causes, groups, strict=True):
        total = totals.get(cause.section, 0)
        if cause.count >= MANY and cause.count <= total and "/robots.txt" not in members[0].url:
            rest, others = total - cause.count, []
            if 0 < rest <= max(FEW, total // 10) and asked < MOST_ASKED:
                asked += 1
                others = site.rows(
                    f"""SELECT origin || path AS url {there} AND p.section = ?
                    AND url NOT IN (SELECT unnest(?::VARCHAR[])) ORDER BY url LIMIT {FEW}""",
                    [cause.section, [mark.address for mark in members]],
                )
            cause = replace(cause, share=cause.count / total, others=tuple(url for (url,) in others))
        found.append(cause)
    return found
