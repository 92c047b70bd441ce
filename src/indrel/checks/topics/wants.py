"""Pages compared with what is wanted of them: wanted but hidden, unwanted but open."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import HAS_NOINDEX, HEADER, NO_NOINDEX, SAID, STATUS, Change, Effect, to, without
from indrel.checks.evidence import PAGE_ROW, about, answers, first_link, listings, page_texts, said, stated, who_is
from indrel.checks.measures import MOST_NAMED, SOON
from indrel.checks.topics.directives import all_said, hidden_hosts, without_hidden_host
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, State, capital, plural
from indrel.core.page.facts import UNFOLLOWED, Mark
from indrel.decide.predicates import FILE, NO_SNIPPET
from indrel.decide.site import Site, once

GATE = f"(html AND kind = 'login' AND marks & {int(Mark.ONLY_PASSWORD)} > 0 AND NOT start)"
BY_HEADER = f"Send {code(HEADER)} with it, in the server's configuration; do not bar it, or the header is never read."
JUNK_OPEN = "kind IN ('search-results', 'parameter-variant')"


class _Hidden(NamedTuple):
    """A wanted page with noindex, and what makes it wanted: an entry of the intent file, or that it is the home page or the target
    of a canonical."""

    id: int
    url: str
    crawlers: int
    entry: int | None
    start: bool
    named: bool


@check(
    "noindex-wanted",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    reports=State.HIDDEN,
    rests_on_want=True,
    feeds=("noindex",),
    change=NO_NOINDEX,
)
def noindex_wanted(site: Site) -> Iterator[Hit]:
    """A wanted page has noindex.

    Why: Crawlers can fetch it, but engines will not index it.
    Fix: Remove the noindex from the tag or header of this page.
    Source: The robots meta tag and X-Robots-Tag as search engines document them.
    Evidence: The tag or header, and the entry that says that the page is wanted.
    """
    found = site.named(
        _Hidden,
        "SELECT id, origin || path, hidden, entry, start, named FROM fact WHERE site AND hidden > 0 AND want = 'show' "
        f"AND {PAGE_ROW} ORDER BY origin, path",
    )
    tags, told = said(site, [one.id for one in found], site.all_mask), hidden_hosts(site)
    expired = expired_alone(site)
    for one in found:
        shown = tags.get(one.id, ())
        mask = without_hidden_host(told, one.url, shown, one.crawlers) & ~expired.get(one.id, 0)
        if mask:
            who = who_is(one.start, one.named, one.entry)
            message = f"{capital(who)} has noindex."
            yield Hit(one.url, mask, message, (*shown, *stated(site, one.entry)), implied=one.entry is None)


def expired_alone(site: Site) -> dict[int, int]:
    """Per page the crawlers for which only a date that has passed counts as noindex."""
    return dict(
        site.rows(
            f"""SELECT address, mask & ~told FROM (
                SELECT d.address, bit_or(CASE WHEN {site.expired_sql} THEN s.mask ELSE 0 END) AS mask,
                    bit_or(CASE WHEN d.noindex THEN s.mask ELSE 0 END) AS told
                FROM directive d JOIN scope s ON s.name = d.scope WHERE d.void IS NULL GROUP BY d.address)
            WHERE mask & ~told > 0"""
        )
    )


@check(
    "expiry-passed",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    reports=State.HIDDEN,
    rests_on_want=True,
    feeds=("expiry",),
    change=Change(SAID, without(r"unavailable_after\s*:[^,\"']*"), Effect.NO_NOINDEX),
)
def expiry_passed(site: Site) -> Iterator[Hit]:
    """The `unavailable_after` date of a wanted page has passed, or soon will.

    Why: From that date on it counts as noindex: the page drops out of the index without any further change.
    Fix: Remove the date from the tag or header, or set a later one.
    Source: `unavailable_after` as search engines document it: after the date, noindex.
    Evidence: The tag or header with the date.
    """
    wanted = {
        number: (start, named, entry, listed, barred)
        for number, start, named, entry, listed, barred in site.rows(
            "SELECT id, start, named, entry, listed, barred FROM fact WHERE site AND want = 'show' AND status < 300"
        )
    }
    began = datetime.fromisoformat(str(site.meta["started"]))
    for one in all_said(site, "d.expires IS NOT NULL"):
        if one.address not in wanted:
            continue
        start, named, entry, listed, barred = wanted[one.address]
        when = min(
            datetime.fromisoformat(t.partition(":")[2]) for t in one.tokens if t.startswith("unavailable_after:")
        )
        passed = when <= began
        mask = one.mask & ~barred
        if not mask or when > began + SOON or (passed and listed and entry is None):
            continue
        who = who_is(start, named, entry)
        when_told = (
            f"has counted as noindex since {when:%Y-%m-%d}" if passed else f"will count as noindex from {when:%Y-%m-%d}"
        )
        message = f"{capital(who)} {when_told}."
        severity = None if passed else Severity.ASK
        yield Hit(
            one.url, mask, message, (one.evidence, *stated(site, entry)), severity=severity, implied=entry is None
        )


@check(
    "snippet-withheld",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    rests_on_want=True,
    feeds=("withheld-snippet",),
)
def snippet_withheld(site: Site) -> Iterator[Hit]:
    """A wanted page forbids engines to show its text in results.

    Why: Results show only its title, which few people click; answers that quote pages do not use it.
    Fix: Remove nosnippet or max-snippet:0, or limit it to the parts that must not be shown (data-nosnippet).
    Source: The robots meta tag as search engines document it: max-snippet:0 is nosnippet.
    Evidence: The tag or header.
    """
    wanted = {
        n: (e, b)
        for n, e, b in site.rows("SELECT id, entry, barred FROM fact WHERE site AND open > 0 AND want = 'show'")
    }
    for one in all_said(site, NO_SNIPPET):
        entry, barred = wanted.get(one.address, (None, site.all_mask))
        mask = one.mask & ~barred
        if mask:
            token = "nosnippet" if "nosnippet" in one.tokens else "max-snippet:0"
            message = f"A wanted page has {token}: results show it without text."
            yield Hit(one.url, mask, message, (one.evidence, *stated(site, entry)), implied=entry is None)


class _Unwanted(NamedTuple):
    """An open page that should be hidden: its kind, the entry that says so (none: it is inferred), and its response."""

    id: int
    url: str
    crawlers: int
    kind: str
    entry: int | None
    status: int
    media: str | None
    html: bool = True

    @property
    def why(self) -> str:
        return f"it looks like junk ({self.kind})" if self.entry is None else "you want it hidden"


def _unwanted(site: Site, condition: str) -> list[_Unwanted]:
    """The ones that are known to be open. For a file of a folder that is not a page, its headers are unknown."""
    return site.named(
        _Unwanted,
        f"""SELECT id, origin || path, open, kind, entry, status, media_type, html FROM fact
        WHERE known AND open > 0 AND want = 'hide' AND (html OR {site.is_live}) AND {condition} ORDER BY origin, path""",
    )


@check(
    "open-unwanted",
    CheckClass.EXPOSED,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    rests_on_want=True,
    change=HAS_NOINDEX,
    draft="headers",
    feeds=("hide",),
)
def open_unwanted(site: Site) -> Iterator[Hit]:
    """A page that you want hidden can be indexed.

    Why: It can appear in search results, where you do not want it.
    Fix: Give the page noindex (tag or header). Do not block it in robots.txt, or crawlers never read the noindex.
    Source: The want, compared with the response: no directive keeps the page out of the index.
    Evidence: The response, and the entry of the intent file.
    """
    own_row = f"entry IS NULL AND (kind = 'page-copy' OR {site.empty_archive_sql})"
    others = f"NOT {GATE} AND NOT {JUNK_OPEN} AND NOT {FILE} AND NOT ({own_row})"
    for one in _unwanted(site, others):
        answer = Evidence("status", one.url, None, f"{status_text(one.status, None)}, no noindex")
        implied = one.entry is None
        mild = (
            Severity.NOTE if implied and one.kind in ("feed", "embed") else None
        )  # common systems do so, and it does no harm
        shown = (answer, *stated(site, one.entry))
        mend = "" if one.html else BY_HEADER
        yield Hit(
            one.url,
            one.crawlers,
            f"The page can be indexed, but {one.why}.",
            shown,
            severity=mild,
            implied=implied,
            advice=mend,
        )


@check(
    "junk-open",
    CheckClass.EXPOSED,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    rests_on_want=True,
    feeds=("answer", "hide"),
    change=HAS_NOINDEX,
)
def junk_open(site: Site) -> Iterator[Hit]:
    """Internal search results or parameter variants can be indexed.

    Why: Such URLs have no end. They use up fetches and compete with the real pages in results.
    Fix: On variants, let the canonical point to the URL without parameters. Give search results noindex.
    Source: Practice: internal results and reply, sort, session or tracking variants should not be indexed.
    Evidence: The response, and a link to the URL.
    """
    found = _unwanted(site, JUNK_OPEN)
    links = first_link(site, [one.id for one in found])
    for one in found:
        first = Evidence(
            "status", one.url, None, f"{status_text(one.status, None)}, no noindex, no canonical elsewhere"
        )
        shown = (first, *links.get(one.id, ()), *stated(site, one.entry))
        what = "Internal search results" if one.kind == "search-results" else "A parameter variant"
        mend = "" if one.html else BY_HEADER
        yield Hit(one.url, one.crawlers, f"{what} can be indexed.", shown, implied=one.entry is None, advice=mend)


@check(
    "file-needs-header",
    CheckClass.EXPOSED,
    Severity.ASK,
    follows=Follows.NOTHING,
    rests_on_want=True,
    needs=(Need.LIVE,),
    change=Change(STATUS, to(HEADER)),
    draft="headers",
    feeds=("hide",),
)
def file_needs_header(site: Site) -> Iterator[Hit]:
    """A document that is not HTML should be hidden, but no header hides it.

    Why: A file has no robots tag; only the X-Robots-Tag header can keep it out of the index.
    Fix: In the server's configuration, send `X-Robots-Tag: noindex` with these files, by folder or file extension.
    Source: X-Robots-Tag as search engines document it: it applies to any content type.
    Evidence: The response with its content type, and the entry of the intent file.
    """
    for one in _unwanted(site, FILE):
        text = f"{status_text(one.status, None)}, {one.media or 'no content type'}, no X-Robots-Tag"
        shown = (Evidence("status", one.url, None, text), *stated(site, one.entry))
        message = f"The file can be indexed, but {one.why}."
        yield Hit(one.url, one.crawlers, message, shown, implied=one.entry is None)


class _Gate(NamedTuple):
    """A page that is only a password form: whether it can be indexed, or is in the sitemap."""

    id: int
    url: str
    crawlers: int
    is_open: bool
    listed: bool


@check("gate-open", CheckClass.EXPOSED, Severity.ASK, follows=Follows.NOTHING)
def gate_open(site: Site) -> Iterator[Hit]:
    """A page that is only a password or login form can be indexed, or is in the sitemap.

    Why: Nobody searches for it, and it shows attackers where to log in.
    Fix: Give it noindex, and remove it from sitemaps.
    Source: Practice: pages that only ask for a password have no content to index.
    Evidence: The password field, and the sitemap entry.
    """
    found = site.named(
        _Gate,
        f"""SELECT id, origin || path, CASE WHEN open > 0 THEN open ELSE {site.all_mask} & ~barred END, open > 0, listed
        FROM fact WHERE site AND {GATE} AND (open > 0 OR listed) AND status < 300
        AND NOT (entry IS NOT NULL AND want IN ('show', 'any')) ORDER BY origin, path""",
    )
    ids = [one.id for one in found]
    fields, entries = slips(site, ids, "password"), listings(site, ids)
    for one in found:
        if one.crawlers:
            shown = [*fields.get(one.id, ()), *([entries[one.id][1]] if one.listed else [])]
            how = "can be indexed" if one.is_open else "is in the sitemap"
            yield Hit(one.url, one.crawlers, f"A page that is only a password form {how}.", tuple(shown))


def slips(site: Site, ids: list[int], kind: str) -> dict[int, list[Evidence]]:
    """Per page the places of one kind in the table of slips."""
    found: dict[int, list[Evidence]] = {}
    for number, line, text, where in about(
        site,
        ids,
        """SELECT s.source, s.line, s.text, coalesce(n.file, a.origin || a.path) FROM slip s
        JOIN picked ON picked.id = s.source JOIN address a ON a.id = s.source JOIN answer n ON n.address = s.source
        WHERE s.kind = ? ORDER BY s.source, s.line, s.text""",
        [kind],
    ):
        found.setdefault(number, []).append(Evidence("tag", where, line, text))
    return found


@check("empty-archive-open", CheckClass.EXPOSED, Severity.ASK, follows=Follows.NOTHING)
def empty_archive_open(site: Site) -> Iterator[Hit]:
    """A listing page without entries can be indexed.

    Why: Visitors find nothing there; many such pages make a site look empty.
    Fix: Give archives without entries noindex, or do not publish them until they have entries.
    Source: Practice: empty archives are nearly always junk.
    Evidence: The heading of the page.
    """
    found = site.named(
        _Unwanted,
        f"""SELECT id, origin || path, open, kind, entry, status, media_type FROM fact WHERE site AND open > 0
        AND {site.empty_archive_sql} AND NOT (entry IS NOT NULL AND want IN ('show', 'hide')) ORDER BY origin, path""",
    )
    shown = page_texts(site, [one.id for one in found])
    for one in found:
        message = f"A listing page ({one.kind}) without entries can be indexed."
        yield Hit(one.url, one.crawlers, message, (shown[one.id],))


@check(
    "open-locked",
    CheckClass.EXPOSED,
    Severity.STOP,
    follows=Follows.NOTHING,
    whole_host=True,
    needs=(Need.LIVE, Need.BARE, Need.INTENT),
    change=Change(STATUS, to("401 Unauthorized (or 403 Forbidden) for anyone who has not logged in")),
    feeds=("lock",),
)
def open_locked(site: Site) -> Iterator[Hit]:
    """A URL that you want locked returns its page without a login.

    Why: Anyone can read content that is meant for few.
    Fix: Let the server require a login there (401). Do this first.
    Source: RFC 9110 section 15.5.2; the want that the intent file states.
    Evidence: The response, and the entry of the intent file.
    """
    yield from _still_answers(site, "lock", "You want this URL locked, but it returns {} without a login.")


@check(
    "live-dropped",
    CheckClass.EXPOSED,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.INTENT,),
    change=Change(STATUS, to("410 Gone (or 404 Not Found)")),
    feeds=("drop",),
)
def live_dropped(site: Site) -> Iterator[Hit]:
    """A URL that you want dropped still returns 200.

    Why: As long as the page exists, it is fetched, linked and indexed.
    Fix: Return 404 or 410 there, or redirect to the page that replaced it.
    Source: RFC 9110 section 15.5.11; the want that the intent file states.
    Evidence: The response, and the entry of the intent file.
    """
    yield from _still_answers(site, "drop", "You want this URL dropped, but it still returns {}.")


def _still_answers(site: Site, want: str, message: str) -> Iterator[Hit]:
    found = site.named(
        _Unwanted,
        f"""SELECT id, origin || path, {site.all_mask}, kind, entry, status, media_type FROM fact
        WHERE site AND want = ? AND status BETWEEN 200 AND 299 AND tail <> 'broken' ORDER BY origin, path""",
        [want],
    )
    shown = answers(site, [one.id for one in found])
    for one in found:
        text = message.format(f"“{status_text(one.status, None)}”")
        yield Hit(one.url, one.crawlers, text, (*shown[one.id], *stated(site, one.entry)))


@check(
    "host-open",
    CheckClass.EXPOSED,
    Severity.STOP,
    follows=Follows.NOTHING,
    whole_host=True,
    needs=(Need.LIVE, Need.INTENT),
    change=Change(STATUS, to(f"401 Unauthorized for all URLs of the host, or {HEADER}")),
    feeds=("closed",),
)
def host_open(site: Site) -> Iterator[Hit]:
    """A host that is declared closed can be fetched and indexed.

    Why: A copy of the site competes with it in results, and shows unfinished content.
    Fix: Let the server require a login for the whole host, or send `X-Robots-Tag: noindex` with every response.
    Source: The declaration in the intent file; RFC 9110 section 15.5.2.
    Evidence: The response of an open page, and the declaration.
    """
    may = f"({site.all_mask} & ~barred & ~noindex)::UBIGINT"  # also if a canonical points elsewhere: that is a hint, not a lock
    for origin, mask, count, urls in site.rows(
        f"""SELECT origin, bit_or({may}), count(*), list(origin || path ORDER BY path) FROM fact
        WHERE site AND closed AND status BETWEEN 200 AND 299 AND {may} > 0 GROUP BY origin ORDER BY origin"""
    ):
        host = origin.partition("://")[2]
        line = site.intent.host_lines.get(host)
        shown = (
            Evidence("status", urls[0], None, "200 OK, no noindex"),
            Evidence("intent", site.intent.where, line, f'name = "{host}", closed = true'),
        )
        message = f"The host is declared closed, but {plural(count, 'URL')} on it can be fetched and indexed."
        others = tuple(u for u in urls[:MOST_NAMED] if u != origin + "/")
        yield Hit(origin + "/", mask, message, shown, also=others)


@check(
    "noindex-nofollow-hub",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    rests_on_want=True,
    needs=(Need.LINKS, Need.COMPLETE),
    feeds=("nofollow", "link"),
)
def noindex_nofollow_hub(site: Site) -> Iterator[Hit]:
    """A page with noindex and nofollow is the only way to wanted pages.

    Why: Crawlers neither index it nor follow its links, so they do not find the pages behind it.
    Fix: Change the directive to `noindex, follow`, or link to the wanted pages from elsewhere.
    Source: The robots meta tag as search engines document it: nofollow covers every link of the page; none is both.
    Evidence: The tag or header, and the links to wanted pages.
    """
    hubs = hub_links(site)
    tags = said(site, hubs, site.all_mask, "nofollow")
    for number, (url, mask, targets, implied, lines) in hubs.items():
        message = f"The page has noindex and nofollow, and it is the only way to {plural(len(targets), 'wanted page')}."
        shown = (*tags.get(number, ()), *lines[:3])
        yield Hit(url, mask, message, shown, also=tuple(targets[:MOST_NAMED]), implied=implied)


@once
def hub_links(site: Site) -> dict[int, tuple[str, int, list[str], bool, list[Evidence]]]:
    """Pages with noindex and nofollow that alone lead to wanted pages: URL, crawlers, targets, inferred, links; none if pages
    that may lead there too were not read."""
    if not site.complete:
        return {}
    found: dict[int, tuple[str, int, list[str], bool, list[Evidence]]] = {}
    for number, url, mask, target, entry, line, text, where in site.rows(
        f"""WITH hub AS (SELECT id, origin || path AS url, hidden & nofollow AS mask FROM fact
                WHERE site AND hidden & nofollow > 0),
            led AS (SELECT DISTINCT l.target FROM link l JOIN hub ON hub.id = l.source JOIN fact t ON t.id = l.target
                WHERE t.site AND t.want = 'show' AND NOT t.start AND l.flags & {UNFOLLOWED} = 0),
            elsewhere AS (SELECT DISTINCT l.target FROM link l JOIN led ON led.target = l.target
                WHERE l.flags & {UNFOLLOWED} = 0 AND l.source NOT IN (SELECT id FROM hub))
        SELECT hub.id, hub.url, hub.mask, t.origin || t.path, t.entry, l.line, l.text, coalesce(n.file, hub.url)
        FROM link l JOIN hub ON hub.id = l.source JOIN led ON led.target = l.target JOIN fact t ON t.id = l.target
        JOIN answer n ON n.address = hub.id
        WHERE l.target NOT IN (SELECT target FROM elsewhere) AND l.flags & {UNFOLLOWED} = 0
        ORDER BY hub.url, l.line, t.path"""
    ):
        before = found.get(number, (url, mask, [], True, []))
        lines = [*before[4], Evidence("link", where, line, text)]
        found[number] = (url, mask, [*before[2], target], before[3] and entry is None, lines)
    return found
