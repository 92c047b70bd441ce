"""Links: what they lead to, and which pages they keep crawlers from."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINK, SAID, Change, each, without
from indrel.checks.cut_off import barriers, cut_off
from indrel.checks.evidence import (
    WHERE,
    Linking,
    Wanted,
    answers,
    linking_pages,
    links_to,
    listings,
    of_each,
    put_forward,
    rules,
    said,
    stated,
)
from indrel.checks.measures import A_SHARE, MANY
from indrel.checks.topics.sitemaps import LED_ON
from indrel.checks.topics.wants import hub_links
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural, verb
from indrel.core.page.anchors import rel_slips
from indrel.core.page.facts import UNFOLLOWED
from indrel.core.relation import in_words, relation
from indrel.decide.predicates import FAILING_F
from indrel.decide.site import Site, once


@check(
    "only-nofollow-path",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    rests_on_want=True,
    needs=(Need.LINKS, Need.COMPLETE),
    feeds=("link",),
)
def only_nofollow_path(site: Site) -> Iterator[Hit]:
    """A wanted page is linked, but every path from the home page needs a nofollow link.

    Why: A crawler that obeys nofollow never reaches the page by links, and the page gets no link weight from the site.
    Fix: Remove nofollow (ugc, sponsored) from one link on the path, or from the page that links to it.
    Source: WHATWG HTML: rel=nofollow; that ugc and sponsored count as well is engine practice.
    Evidence: The nofollow link to the page, or the page-wide nofollow on the path, and the sitemap entry.
    """
    yield from _path_hits(site, cut_off(site))


def _path_hits(site: Site, found: list[Wanted]) -> Iterator[Hit]:
    ids = [one.id for one in found]
    unfollowed = links_to(site, ids, most=1, unfollowed=True)
    followed = links_to(site, ids, most=1)
    entries = listings(site, ids)
    linking = dict(
        of_each(
            site,
            ids,
            f"""SELECT l.target, arg_min(l.source, (l.flags & {UNFOLLOWED} > 0, a.path, a.origin)) FROM link l
            JOIN picked ON picked.id = l.target JOIN address a ON a.id = l.source GROUP BY l.target""",
        )
    )
    tags = said(site, linking.values(), site.all_mask, "nofollow")
    message = "The page is linked, but every path to it from the home page needs a nofollow link."
    first = barriers(site, [one.id for one in found if not unfollowed.get(one.id)])
    for one in found:
        shown = [*unfollowed.get(one.id, ()), *tags.get(linking.get(one.id, -1), ())]
        shown = shown or [*first.get(one.id, ()), *followed.get(one.id, ())]
        if one.id in entries:
            shown.append(entries[one.id][1])
        yield Hit(one.url, one.crawlers, message, (*shown, *stated(site, one.entry)), implied=one.entry is None)


class _Failing(NamedTuple):
    """A URL that returns an error, or 401 or 403 although it should be shown."""

    id: int
    url: str
    crawlers: int
    is_locked: bool
    is_broken: bool
    end: int
    end_url: str


@check(
    "link-to-gone",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.SOFT_404 | Follows.NEEDED_VISIT | Follows.SUBJECT,
    feeds=("link", "failing"),
)
def link_to_gone(site: Site) -> Iterator[Hit]:
    """Links point to a page of the site that is gone or broken.

    Why: Visitors and crawlers run into an error, and the weight of the links is lost. A page that returns 401 or 403 is
    reported only if you want it shown: otherwise the link is meant for users who can log in.
    Fix: Let the links point to the page that replaced it, or remove them. If the page moved, redirect its URL.
    Source: RFC 9110 section 15.5 and 15.6: with 4xx and 5xx there is no page.
    Evidence: The status, and the links.
    """
    found = site.named(
        _Failing,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, f.tail = 'locked', f.tail = 'broken', e.id,
            e.origin || e.path FROM fact f JOIN fact e ON e.id = {LED_ON}
        WHERE f.site AND f.followed + f.unfollowed > 0 AND e.site AND ({FAILING_F}
            OR f.id <> e.id AND e.tail IN ('gone', 'broken')) ORDER BY f.origin, f.path""",
    )
    ids = [one.id for one in found]
    shown, links, pages = (
        answers(site, [*ids, *(one.end for one in found)]),
        links_to(site, ids),
        linking_pages(site, ids),
    )
    for one in found:
        if one.crawlers:
            from_pages = pages.get(one.id, Linking())
            status = next((e for e in shown[one.end] if e.kind == "status"), shown[one.end][0])
            led = one.end != one.id
            returns = f"It redirects to {one.end_url}, which returns" if led else "It returns"
            want = "You want this page shown. " if one.is_locked else ""
            message = f"{want}{_link_to_it(from_pages.pages)}. {returns} “{status.text}”."
            evidence = (*shown[one.id], *((status,) if led else ()), *links.get(one.id, ()))
            advice = REPAIR_PAGE if one.is_broken else LET_IN if one.is_locked else ""
            yield Hit(one.url, one.crawlers, message, evidence, also=from_pages.urls, advice=advice)


REPAIR_PAGE = "Repair the page: the links to it are right. Change them only if the page should be gone."
LET_IN = "Let the server return the page without a login, or change its want in the intent file."


def _link_to_it(pages: int) -> str:
    return f"{plural(pages, 'page')} {'links' if pages == 1 else 'link'} to this URL"


@check(
    "no-path",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    rests_on_want=True,
    needs=(Need.LINKS, Need.COMPLETE),
)
def no_path(site: Site) -> Iterator[Hit]:
    """A wanted page is in a sitemap or list, but no page that was read links to it (orphan page).

    Why: Visitors cannot reach it, and it gets no link weight from the site. Engines index such pages late or not at all.
    Fix: Link to it from the page where visitors would look for it.
    Source: Engine practice: pages are found and weighed by links; a sitemap only announces them.
    Evidence: The sitemap entry, or the list that contains it.
    """
    found = site.named(
        Wanted,
        """SELECT id, origin || path, open, entry FROM fact WHERE site AND want = 'show' AND NOT start AND open > 0
        AND followed + unfollowed = 0 AND (listed OR id IN (SELECT address FROM given WHERE why IN ('also', 'before')))
        AND origin || path NOT IN (SELECT a.origin || '/' FROM given g JOIN address a ON a.id = g.address)
        AND id NOT IN (SELECT folds_to FROM fact WHERE folds_to IS NOT NULL AND fold_how <> 'canonical'
            AND followed + unfollowed > 0) ORDER BY origin, path""",
    )
    named = put_forward(site, [one.id for one in found])
    for one in found:
        shown = (named[one.id], *stated(site, one.entry))
        yield Hit(one.url, one.crawlers, "No page that was read links to this page.", shown, implied=one.entry is None)


class _Linked(NamedTuple):
    """A page, the crawlers that can read it, how many links to it are followed and how many are not, and the entry that states
    its want."""

    id: int
    url: str
    crawlers: int
    followed: int
    unfollowed: int
    entry: int | None


def _linked_unfollowed(site: Site, condition: str) -> list[_Linked]:
    """Pages with nofollow links to them that meet a condition; links of pages whose canonical points to them do not count."""
    own = of_own_variants(site)
    found = site.named(
        _Linked,
        f"""SELECT id, origin || path, {site.all_mask} & ~barred, followed, unfollowed, entry FROM fact
        WHERE site AND unfollowed > 0 AND {condition} ORDER BY origin, path""",
    )
    counted = (one._replace(unfollowed=one.unfollowed - own.get(one.id, 0)) for one in found)
    return [one for one in counted if one.unfollowed > 0]


@check(
    "link-nofollow-inside",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    rests_on_want=True,
    needs=(Need.LINKS,),
    feeds=("link",),
)
def link_nofollow_inside(site: Site) -> Iterator[Hit]:
    """Links to a wanted page of the same site are nofollow.

    Why: nofollow does not keep a page out of the index; it only wastes the weight that the link would pass on.
    Fix: Remove nofollow (ugc, sponsored) from links inside the site.
    Source: WHATWG HTML: rel=nofollow; that the weight is lost and not redistributed is engine practice.
    Evidence: The nofollow links.
    """
    told = {one.id for one in cut_off(site)} if site.complete else set()
    there = "tail IN ('', 'unread')" if site.complete else "tail = ''"  # else it may yet turn out to be gone
    wanted = _linked_unfollowed(site, f"want = 'show' AND {there}")
    found = [one for one in wanted if one.id not in told and one.crawlers]
    ids = [one.id for one in found]
    links, pages = links_to(site, ids, unfollowed=True), linking_pages(site, ids, unfollowed=True)
    for one in found:
        message = f"{plural(one.unfollowed, 'link')} to this wanted page {verb(one.unfollowed)} nofollow."
        yield Hit(one.url, one.crawlers, message, (*links.get(one.id, ()), *stated(site, one.entry)),
                  also=pages.get(one.id, Linking()).urls, implied=one.entry is None)  # fmt: skip


@once
def of_own_variants(site: Site) -> dict[int, int]:
    """Per page the nofollow links to it from pages whose canonical points to it: on a form to reply, the link back."""
    return dict(
        site.rows(
            f"""SELECT l.target, count(*) FROM fact f JOIN link l ON l.source = f.id AND l.target = f.folds_to
            WHERE f.fold_how = 'canonical' AND l.flags & {UNFOLLOWED} > 0 GROUP BY l.target"""
        )
    )


@check(
    "link-mixed",
    CheckClass.CONFLICT,
    Severity.NOTE,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    needs=(Need.LINKS,),
    feeds=("link",),
)
def link_mixed(site: Site) -> Iterator[Hit]:
    """A page has both followed links and nofollow links to it.

    Why: Crawlers reach the page by the followed links, so the nofollow achieves nothing.
    Fix: Remove the nofollow, or set it on all links. To keep a page out of the index, give it noindex.
    Source: WHATWG HTML: rel=nofollow applies to the one link.
    Evidence: A nofollow link and a followed one.
    """
    found = _linked_unfollowed(site, "followed > 0")
    ids = [one.id for one in found]
    without, followed = links_to(site, ids, most=1, unfollowed=True), links_to(site, ids, most=1, unfollowed=False)
    for one in found:
        are, others = plural(one.unfollowed, "link"), plural(one.followed, "link")
        message = f"{are} to this page {verb(one.unfollowed)} nofollow, but {others} {verb(one.followed)} followed."
        shown = (*without.get(one.id, ()), *followed.get(one.id, ()))
        yield Hit(one.url, one.crawlers or site.all_mask, message, shown)


class _Silent(NamedTuple):
    """A page with page-wide nofollow: how many of its links lead to wanted pages, whether any such want is stated, and the
    first such link."""

    id: int
    url: str
    crawlers: int
    wanted: int
    is_stated: bool
    text: str
    line: int
    where: str


@check(
    "page-nofollow",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    rests_on_want=True,
    needs=(Need.LINKS,),
    feeds=("nofollow", "link"),
    change=Change(SAID, without("nofollow")),
)
def page_nofollow(site: Site) -> Iterator[Hit]:
    """A page with page-wide nofollow links to wanted pages.

    Why: None of its links is followed or passes on weight, including those of the menu.
    Fix: Remove nofollow from the tag or header. If single links should be nofollow, set it on those links.
    Source: The robots meta tag as search engines document it: nofollow covers every link of the page.
    Evidence: The tag or header, and links to wanted pages.
    """
    hubs = hub_links(site)
    pages = site.named(
        _Silent,
        """SELECT f.id, f.origin || f.path, f.nofollow & ~f.barred, count(DISTINCT l.target), bool_or(t.entry IS NOT NULL),
            first(l.text ORDER BY l.line, l.text), min(l.line), any_value(coalesce(n.file, f.origin || f.path))
        FROM fact f JOIN link l ON l.source = f.id JOIN fact t ON t.id = l.target JOIN answer n ON n.address = f.id
        WHERE f.site AND f.nofollow & ~f.barred > 0 AND f.status < 300 AND t.site AND t.want = 'show'
        GROUP BY ALL ORDER BY f.origin || f.path""",
    )
    found = [one for one in pages if one.id not in hubs]
    tags = said(site, [one.id for one in found], site.all_mask, "nofollow")
    for one in found:
        shown = (*tags.get(one.id, ()), Evidence("link", one.where, one.line, one.text))
        message = f"The page has page-wide nofollow, although it links to {plural(one.wanted, 'wanted page')}."
        yield Hit(one.url, one.crawlers, message, shown, implied=not one.is_stated)


class _Shut(NamedTuple):
    """A page that some crawlers cannot index, for which of them it is barred or locked, and how many pages link to it."""

    id: int
    url: str
    crawlers: int
    barred: int
    locked: bool
    followed: int
    end: int
    end_url: str


@check(
    "link-to-shut",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.SUBJECT | Follows.RULE,
    needs=(Need.LINKS,),
    feeds=("link", "shut"),
)
def link_to_shut(site: Site) -> Iterator[Hit]:
    """Many pages link to a page that is blocked by robots.txt, hidden or locked.

    Why: Each link passes weight to a page that cannot be indexed. A link in a template does so on every page.
    Fix: If the page should be indexed, remove what keeps it out. Otherwise link to it from fewer pages.
    Source: Engine practice: the weight of links to pages that cannot be indexed is lost.
    Evidence: The rule, directive or status that keeps the page out, and the links.
    """
    pages = int(site.one("SELECT count(*) FROM fact WHERE site AND html"))
    share = A_SHARE * pages
    found = site.named(
        _Shut,
        f"""SELECT f.id, f.origin || f.path,
            CASE WHEN e.tail = 'locked' THEN {site.all_mask} & ~f.barred ELSE f.barred | e.barred | e.hidden END,
            f.barred | e.barred, e.tail = 'locked', f.followed, e.id, e.origin || e.path FROM fact f JOIN fact e ON e.id = {LED_ON}
        WHERE f.site AND e.site AND (f.barred > 0 AND f.tail IN ('', 'unread') OR e.barred | e.hidden > 0 AND e.tail IN ('', 'unread')
            OR e.tail = 'locked') AND f.followed >= greatest(2, least({MANY}, {share})) AND NOT f.closed
        AND f.want NOT IN ('hide', 'lock', 'drop') AND e.want NOT IN ('hide', 'lock', 'drop') ORDER BY f.origin, f.path""",
    )
    ids = [one.id for one in found]
    tags, links = said(site, [one.end for one in found], site.all_mask), links_to(site, ids, most=2, unfollowed=False)
    shown = answers(site, [one.end for one in found if one.locked])
    for one in found:
        barring = rules(site, one.url, one.barred) or rules(site, one.end_url, one.barred) if one.barred else ()
        why = (*barring, *tags.get(one.end, ()), *shown.get(one.end, ()))
        if not why or not one.crawlers:
            continue
        kept = [
            ("blocked by robots.txt", bool(one.barred)),
            ("locked", one.locked),
            ("hidden", bool(tags.get(one.end))),
        ]
        what = listing([word for word, applies in kept if applies], "or")
        led = f", which redirects to {one.end_url}. That page is {what}" if one.end != one.id else f", which is {what}"
        message = f"{plural(one.followed, 'page')} link{'s' if one.followed == 1 else ''} to this URL{led}."
        severity = None if one.followed >= share else Severity.NOTE
        also = (one.end_url,) if one.end != one.id else ()
        yield Hit(one.url, one.crawlers, message, (*why, *links.get(one.id, ())), also, severity=severity)


class _Moved(NamedTuple):
    """A page that redirects, where to, and whether only temporarily (RFC 9110 section 15.4)."""

    id: int
    url: str
    crawlers: int
    target: str
    for_now: bool


FOR_NOW = "If the redirect is temporary (a login, a choice of language), leave it. Otherwise return 301 and link to the final URL."


@check("link-to-redirect", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST, feeds=("link", "redirect"))
def link_to_redirect(site: Site) -> Iterator[Hit]:
    """Links point to a URL that redirects, or to another variant of the host.

    Why: Each such link costs one more fetch, and some of its weight.
    Fix: Let the links point to the final URL.
    Source: RFC 9110 section 15.4.
    Evidence: Where the URL redirects, and the links.
    """
    found = site.named(
        _Moved,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path,
            coalesce(f.status IN (302, 303, 307), false) FROM fact f JOIN address t ON t.id = f.folds_to
        WHERE f.site AND f.fold_how IN ('redirect', 'refresh') AND f.followed + f.unfollowed > 0 ORDER BY f.origin, f.path""",
    )
    ids = [one.id for one in found]
    shown, links, pages = answers(site, ids), links_to(site, ids), linking_pages(site, ids)
    for one in found:
        from_pages = pages.get(one.id, Linking())
        if one.crawlers:
            apart = in_words(relation(one.url, one.target))
            message = (
                f"{_link_to_it(from_pages.pages)}, which redirects to {one.target}{f': {apart}' if apart else ''}."
            )
            evidence, advice = (*shown[one.id], *links.get(one.id, ())), FOR_NOW if one.for_now else ""
            pair = (one.url, one.target)
            yield Hit(one.url, one.crawlers, message, evidence, also=from_pages.urls, advice=advice, pair=pair)


@check("link-not-crawlable", CheckClass.FLAW, Severity.ASK, follows=Follows.NOTHING, feeds=("slip",))
def link_not_crawlable(site: Site) -> Iterator[Hit]:
    """Navigation links have no usable href: a script, `#` or nothing.

    Why: Crawlers follow the href of links; they do not click. Pages that only a script leads to are not found.
    Fix: Give each entry an `<a href>` with the URL that it leads to. The script can stay.
    Source: WHATWG HTML: a link is an a or area element with href; that nothing else is followed is engine practice.
    Evidence: The elements.
    """
    yield from _slips(site, "href", "{} {} no usable href: {}.")


@check(
    "link-rel-slip",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("slip",),
    change=Change(LINK, each("rel", rel_slips)),
)
def link_rel_slip(site: Site) -> Iterator[Hit]:
    """A link has a rel token that is close to a known one and has no effect.

    Why: The link is followed and passes on weight, although that was not intended.
    Fix: Spell the token as the message shows.
    Source: WHATWG HTML: rel is a list of tokens; unknown ones are ignored.
    Evidence: The link.
    """
    yield from _slips(site, "rel", "{} {} a misspelt rel: {}.")


def _slips(site: Site, kind: str, message: str) -> Iterator[Hit]:
    """One hit per page, with its slips of one kind."""
    pages: dict[str, tuple[int, list[tuple[str, Evidence]]]] = {}
    for url, mask, what, line, text, where in site.rows(
        f"""SELECT a.origin || a.path, {site.all_mask} & ~a.barred, s.what, s.line, s.text, {WHERE} FROM slip s
        JOIN fact a ON a.id = s.source JOIN answer n ON n.address = s.source
        WHERE s.kind = ? AND a.site AND a.status < 300 ORDER BY a.origin, a.path, s.line, s.text""",
        [kind],
    ):
        pages.setdefault(url, (mask, []))[1].append((what, Evidence("link", where, line, text)))
    for url, (mask, found) in pages.items():
        if mask:
            text = message.format(
                plural(len(found), "link"),
                verb(len(found), "has", "have"),
                "; ".join(dict.fromkeys(what for what, _ in found)),
            )
            yield Hit(url, mask, text, tuple(shown for _, shown in found[:5]))
