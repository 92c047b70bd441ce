"""Links: what they lead to, and what they keep from being reached."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.sqltext import quoted
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINK, SAID, Change, each, to, with_rel, without
from indrel.checks.cut_off import cut_off
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
from indrel.checks.topics.wants import hub_links
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural
from indrel.core.page.anchors import rel_slips
from indrel.core.page.facts import UNFOLLOWED, LinkFlag
from indrel.decide.predicates import FAILING
from indrel.decide.site import Site, once

HOST_OF = "substr(a.origin, strpos(a.origin, '://') + 3)"


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
    """A wanted page is linked, but every path to it needs a link that is not followed.

    Why: A crawler that obeys nofollow never comes to the page by links, and the page gets no weight from the site.
    Mend: Take nofollow (ugc, sponsored) off one link on the way, or off the page that links to it.
    Rests on: WHATWG HTML: rel=nofollow; that ugc and sponsored count likewise is engine practice.
    Evidence: The unfollowed link to the page, or the page-wide nofollow in the way, and the sitemap entry.
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
    message = "is linked, but every path from the start page needs an unfollowed link"
    for one in found:
        shown = [*unfollowed.get(one.id, ()), *tags.get(linking.get(one.id, -1), ())] or followed.get(one.id, [])
        if one.id in entries:
            shown.append(entries[one.id][1])
        yield Hit(one.url, one.crawlers, message, (*shown, *stated(site, one.entry)), implied=one.entry is None)


class _Failing(NamedTuple):
    """An address that answers with an error, or, though it is to be shown, asks for credentials."""

    id: int
    url: str
    crawlers: int
    is_locked: bool


@check(
    "link-to-gone",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.SOFT_404 | Follows.NEEDED_VISIT,
    feeds=("link", "failing"),
    change=Change(LINK, to("(the link goes, or leads to an address that is there)")),
)
def link_to_gone(site: Site) -> Iterator[Hit]:
    """Pages link to an address of the site that is gone or broken.

    Why: Visitors and crawlers run into an error, and the weight of the links is lost. A page that asks for credentials is
    told of only where it is to be shown: else it is linked for those who may sign in.
    Mend: Point the links at the page that took its place, or take them out; redirect the address if it moved.
    Rests on: RFC 9110 section 15.5 and 15.6: 4xx and 5xx say that there is nothing to be had.
    Evidence: What the address answers, and the links.
    """
    found = site.named(
        _Failing,
        f"SELECT id, origin || path, {site.all_mask} & ~barred, tail = 'locked' FROM fact WHERE site AND {FAILING} "
        "AND followed + unfollowed > 0 ORDER BY origin, path",
    )
    ids = [one.id for one in found]
    shown, links, pages = answers(site, ids), links_to(site, ids), linking_pages(site, ids)
    for one in found:
        if one.crawlers:
            from_pages = pages.get(one.id, Linking())
            what = shown[one.id][0].text
            answer = "is to be shown, but answers" if one.is_locked else "answers"
            message = f"{answer} “{what}”, and {_link_to_it(from_pages.pages)}"
            yield Hit(one.url, one.crawlers, message, (*shown[one.id], *links.get(one.id, ())), also=from_pages.urls)


def _link_to_it(pages: int) -> str:
    return f"{plural(pages, 'page')} {'links' if pages == 1 else 'link'} to it"


@check(
    "no-path",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.NOFOLLOW,
    rests_on_want=True,
    needs=(Need.LINKS, Need.COMPLETE),
)
def no_path(site: Site) -> Iterator[Hit]:
    """A wanted page is in a sitemap or list, but no page that was read links to it.

    Why: Visitors cannot come to it, and it gets no weight from the site; engines list such pages late or not at all.
    Mend: Link it from where it belongs.
    Rests on: Engine practice: pages are found and weighed by links; a sitemap only announces them.
    Evidence: The sitemap entry, or the list that names it.
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
        yield Hit(one.url, one.crawlers, "no page that was read links to it", shown, implied=one.entry is None)


class _Linked(NamedTuple):
    """A page, the crawlers that may read it, how many pages link to it so that it is followed and otherwise, and the entry
    that states what is wanted of it."""

    id: int
    url: str
    crawlers: int
    followed: int
    unfollowed: int
    entry: int | None


def _linked_unfollowed(site: Site, condition: str) -> list[_Linked]:
    """Pages with unfollowed links to them that meet a condition; links of pages that give way to them are not counted."""
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
    """Links to a wanted page of one's own site are not followed.

    Why: nofollow keeps no page out of the listings; it only wastes the weight that the link would carry.
    Mend: Take nofollow (ugc, sponsored) off links inside the site.
    Rests on: WHATWG HTML: rel=nofollow; that the weight is lost and not shared out is engine practice.
    Evidence: The unfollowed links.
    """
    told = {one.id for one in cut_off(site)} if site.complete else set()
    there = "tail IN ('', 'unread')" if site.complete else "tail = ''"  # else it may yet turn out to be gone
    wanted = _linked_unfollowed(site, f"want = 'show' AND {there}")
    found = [one for one in wanted if one.id not in told and one.crawlers]
    ids = [one.id for one in found]
    links, pages = links_to(site, ids, unfollowed=True), linking_pages(site, ids, unfollowed=True)
    for one in found:
        are = "is" if one.unfollowed == 1 else "are"
        message = f"{plural(one.unfollowed, 'link')} to this wanted page {are} not followed"
        yield Hit(one.url, one.crawlers, message, (*links.get(one.id, ()), *stated(site, one.entry)),
                  also=pages.get(one.id, Linking()).urls, implied=one.entry is None)  # fmt: skip


@once
def of_own_variants(site: Site) -> dict[int, int]:
    """Per page the unfollowed links to it from pages that give way to it: on a form to reply, the link that goes back."""
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
    """One target is linked both followed and unfollowed.

    Why: The followed link leads crawlers there all the same, so the nofollow achieves nothing.
    Mend: Take the nofollow off, or put it on all links; to keep a page out of listings, say noindex on it.
    Rests on: WHATWG HTML: rel=nofollow holds for the one link.
    Evidence: An unfollowed link and a followed one.
    """
    found = _linked_unfollowed(site, "followed > 0")
    ids = [one.id for one in found]
    without, followed = links_to(site, ids, most=1, unfollowed=True), links_to(site, ids, most=1, unfollowed=False)
    for one in found:
        are, others = ("is" if count == 1 else "are" for count in (one.unfollowed, one.followed))
        message = f"{plural(one.unfollowed, 'link')} to it {are} not followed, {one.followed:,} {others}"
        shown = (*without.get(one.id, ()), *followed.get(one.id, ()))
        yield Hit(one.url, one.crawlers or site.all_mask, message, shown)


class _Silent(NamedTuple):
    """A page none of whose links is followed: how many lead to wanted pages, whether any such want is stated, and the first
    such link."""

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
    """A page says nofollow for all its links, and links to wanted pages.

    Why: None of its links is followed or passes weight, the menu's included.
    Mend: Take nofollow out of the tag or header; mark single links instead where that is meant.
    Rests on: The robots meta tag as search engines document it: nofollow covers every link of the page.
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
        lead = "leads" if one.wanted == 1 else "lead"
        message = f"no link of this page is followed; {one.wanted:,} of them {lead} to wanted pages"
        yield Hit(one.url, one.crawlers, message, shown, implied=not one.is_stated)


class _Shut(NamedTuple):
    """A page that is barred or hidden for some crawlers, for which of them it is barred, and how many pages link to it."""

    id: int
    url: str
    crawlers: int
    barred: int
    followed: int


@check(
    "link-to-shut",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.LINKS,),
    feeds=("link", "shut"),
)
def link_to_shut(site: Site) -> Iterator[Hit]:
    """Many pages link to a page that is barred or hidden.

    Why: Each link gives away weight to a page that is not listed; in a template that is a share of the whole site's.
    Mend: Link such pages from few places, or let them be listed.
    Rests on: Engine practice: the weight of links to barred or hidden pages is lost.
    Evidence: The rule or directive that shuts the page, and the links.
    """
    pages = int(site.one("SELECT count(*) FROM fact WHERE site AND html"))
    share = A_SHARE * pages
    found = site.named(
        _Shut,
        f"""SELECT id, origin || path, barred | hidden, barred, followed FROM fact
        WHERE site AND barred | hidden > 0 AND followed >= least({MANY}, {share}) AND NOT closed
        AND (tail IN ('', 'unread')) ORDER BY origin, path""",
    )
    ids = [one.id for one in found]
    tags, links = said(site, ids, site.all_mask), links_to(site, ids, most=2, unfollowed=False)
    for one in found:
        why = (*(rules(site, one.url, one.barred) if one.barred else ()), *tags.get(one.id, ()))
        if not why:
            continue
        what = "barred" if one.barred == one.crawlers else "hidden" if not one.barred else "barred or hidden"
        message = f"{plural(one.followed, 'page')} link{'s' if one.followed == 1 else ''} to this {what} page"
        severity = None if one.followed >= share else Severity.NOTE
        yield Hit(one.url, one.crawlers, message, (*why, *links.get(one.id, ())), severity=severity)


class _Moved(NamedTuple):
    """A page that redirects, where it leads, and whether for now only (RFC 9110 section 15.4)."""

    id: int
    url: str
    crawlers: int
    target: str
    for_now: bool


FOR_NOW = "Leave it if the redirect is meant for now only (a login, a choice of language); else answer 301 and link to the final address."


@check("link-to-redirect", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST, feeds=("link", "redirect"))
def link_to_redirect(site: Site) -> Iterator[Hit]:
    """Pages link to an address that redirects, or to another variant of the host.

    Why: Each such link costs a further fetch, and some of its weight.
    Mend: Point the links at the final address.
    Rests on: RFC 9110 section 15.4.
    Evidence: Where the address leads, and the links.
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
            message = f"redirects to {one.target}, and {_link_to_it(from_pages.pages)}"
            evidence, mend = (*shown[one.id], *links.get(one.id, ())), FOR_NOW if one.for_now else ""
            yield Hit(one.url, one.crawlers, message, evidence, also=from_pages.urls, mend=mend)


@check("link-not-crawlable", CheckClass.FLAW, Severity.ASK, follows=Follows.NOTHING, feeds=("slip",))
def link_not_crawlable(site: Site) -> Iterator[Hit]:
    """Navigation has no address: a script, `#` or nothing where the address belongs.

    Why: Crawlers follow the href of links; they do not click. What only a script leads to is not found.
    Mend: Give each entry an `<a href>` with the address it leads to; the script may stay.
    Rests on: WHATWG HTML: a link is an a or area element with href; that nothing else is followed is engine practice.
    Evidence: The elements.
    """
    yield from _slips(site, "href", "{} without an address to follow: {}")


@check(
    "link-rel-slip",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("slip",),
    change=Change(LINK, each("rel", rel_slips)),
)
def link_rel_slip(site: Site) -> Iterator[Hit]:
    """A link's rel holds a token that is near a known one, and has no effect.

    Why: The link is followed and passes weight, though it was not to.
    Mend: Spell the token as the message says.
    Rests on: WHATWG HTML: rel is a list of tokens; unknown ones are ignored.
    Evidence: The link.
    """
    yield from _slips(site, "rel", "{} with a misspelt rel: {}")


def _slips(site: Site, kind: str, message: str) -> Iterator[Hit]:
    """One hit a page, with its slips of one kind."""
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
            text = message.format(plural(len(found), "link"), "; ".join(dict.fromkeys(what for what, _ in found)))
            yield Hit(url, mask, text, tuple(shown for _, shown in found[:5]))


@check(
    "paid-link-followed",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.PARTNERS,),
    feeds=("link",),
    change=Change(LINK, with_rel("sponsored")),
)
def paid_link_followed(site: Site) -> Iterator[Hit]:
    """A link to a partner's host is not marked as paid.

    Why: Links that are paid for must not pass weight; engines act against sites that sell it.
    Mend: Add `rel="sponsored"` (or nofollow) to the link.
    Rests on: Engine practice: paid links carry `sponsored` or `nofollow`; the partners that the intent file declares.
    Evidence: The links, and the declaration.
    """
    hosts = " OR ".join(
        f"split_part({HOST_OF}, ':', 1) = {quoted(h)} OR {HOST_OF} = {quoted(h)} "
        f"OR ends_with(split_part({HOST_OF}, ':', 1), {quoted('.' + h)})"
        for h in site.intent.partners
    )
    flags = int(LinkFlag.NOFOLLOW | LinkFlag.SPONSORED)
    yield from _outward(site, f"({hosts}) AND l.flags & {flags} = 0", "{} to {} without sponsored or nofollow")


@check(
    "user-link-followed",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.USER_PARTS,),
    feeds=("link",),
    change=Change(LINK, with_rel("ugc")),
)
def user_link_followed(site: Site) -> Iterator[Hit]:
    """A link to another site, in a part that visitors write, is followed.

    Why: Whoever writes there can spend the site's good name; that draws junk links.
    Mend: Have the template add `rel="ugc"` (or nofollow) to links in that part.
    Rests on: Engine practice: links that visitors write carry `ugc` or `nofollow`; the parts that the intent file declares.
    Evidence: The links.
    """
    flags = int(LinkFlag.NOFOLLOW | LinkFlag.UGC)
    condition = f"NOT a.site AND l.flags & {int(LinkFlag.USER)} > 0 AND l.flags & {flags} = 0"
    yield from _outward(site, condition, "{} that visitors wrote to {} without ugc or nofollow")


def _outward(site: Site, condition: str, message: str) -> Iterator[Hit]:
    """One hit a page for its links to other hosts that meet a condition over `l` (link) and `a` (target)."""
    pages: dict[str, tuple[int, list[str], list[Evidence]]] = {}
    for url, mask, host, line, text, where in site.rows(
        f"""SELECT f.origin || f.path, {site.all_mask} & ~f.barred & ~f.nofollow, {HOST_OF}, l.line, l.text,
            coalesce(n.file, f.origin || f.path)
        FROM link l JOIN address a ON a.id = l.target JOIN fact f ON f.id = l.source JOIN answer n ON n.address = f.id
        WHERE f.site AND f.status < 300 AND {condition} ORDER BY f.origin, f.path, l.line, l.text"""
    ):
        _, hosts, shown = pages.setdefault(url, (mask, [], []))
        hosts.append(host)
        shown.append(Evidence("link", where, line, text))
    for url, (mask, hosts, shown) in pages.items():
        if mask:
            text = message.format(plural(len(shown), "link"), listing(list(dict.fromkeys(hosts))[:3]))
            yield Hit(url, mask, text, tuple(shown[:5]))
