"""What holds for the site as a whole: its start page, its links, and whether only scripts fill it."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import NamedTuple

from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.evidence import WHERE, about, said, scripts
from indrel.checks.measures import MANY, NEARLY_ALL
from indrel.checks.topics.canonical_values import unreachable_host
from indrel.core.address import split
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, State, plural
from indrel.core.page.facts import UNFOLLOWED, Mark
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

FEW_WORDS = 25
"""A page that only scripts fill says no more than that scripts are needed."""


@check(
    "start-not-open",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    whole_host=True,
    needs=(Need.PAGES,),
)
def start_not_open(site: Site) -> Iterator[Hit]:
    """The address that the audit began at, or the site's start page, is not open.

    Why: It is what everyone links and searches for first; where it is shut, little else is found.
    Mend: Make the address answer 200 without credentials, noindex or a redirect off the site; or audit the address it leads to.
    Rests on: The states of this audit: RFC 9110 for answers, the robots meta tag, RFC 9309 for rules.
    Evidence: What decides its state.
    """
    for url in dict.fromkeys((site.base, site.base_origin + "/")):
        number = site.id_of(url)
        if number is None or site.is_closed(site.base_origin):
            continue
        name = "the start page" if url.endswith("://" + url.split("/")[2] + "/") else url
        front = site.front_id if url == site.base else number
        for at in (number,) if front in (None, number) else (number, front):
            found = _look(site, at)
            mask, what = _shut(site, found, at != number)
            if not mask:
                continue
            behind = reasons(site, [at]).get(at, [])
            shown = dict.fromkeys(e for i in range(len(site.crawlers)) if mask >> i & 1 for e in decides(behind, i))
            by = f" leads to {found.url}, which" if at != number else ""
            evidence = tuple(shown) or (Evidence("status", found.url, None, what),)
            yield Hit(url, mask, f"{name}{by} {what}", evidence, mend=_as_it_will_stand(site, found))
            break


def _as_it_will_stand(site: Site, found: _Look) -> str:
    """What to do where a server on this machine or network says that its pages stand elsewhere: it is a preview."""
    here = split(site.base)
    if found.how != "canonical" or found.on_site or not found.target or not unreachable_host(here.host):
        return ""
    there, port = split(found.target), here.port or (443 if here.scheme == "https" else 80)
    spoken = "http://" if here.scheme == "http" else ""
    words = ("indrel", "audit", f"{there.origin}/", "--connect", f"{there.host}={spoken}{here.host}:{port}")
    return f"If this is a preview of {there.origin}, audit it under that name: {shlex.join(words)}"  # a page chose the name


class _Look(NamedTuple):
    """What an address is found to be, and where it leads."""

    url: str
    barred: int
    hidden: int
    tail: str
    status: int | None
    error: str | None
    how: str | None
    marks: int
    target: str | None
    on_site: bool


def _look(site: Site, number: int) -> _Look:
    columns = (
        "f.origin || f.path, f.barred, f.hidden, f.tail, f.status, f.error, f.fold_how, f.marks, t.origin || t.path"
    )
    return site.named(
        _Look,
        f"""SELECT {columns}, coalesce(t.site, true) FROM fact f
        LEFT JOIN address t ON t.id = coalesce(f.folds_into, f.folds_to) WHERE f.id = ?""",
        [number],
    )[0]


def _shut(site: Site, found: _Look, led: bool) -> tuple[int, str]:
    """For which crawlers an address is not open, and in which words; `led`: the start page is where it leads."""
    every = site.all_mask
    if found.tail == State.BROKEN and found.how is not None:
        return every, "redirects in a circle"
    if found.tail in (State.LOCKED, State.GONE, State.BROKEN):
        if not site.is_live and found.tail == State.GONE:
            return 0, ""  # a folder may be a part of a site
        if not found.status:
            return every, f"does not answer: {found.error or 'no answer'}"
        return every, f"answers “{status_text(found.status, found.error)}”"
    if found.tail == State.FOLDED and not found.on_site:
        if found.how == "canonical":
            return every & ~found.barred, f"names {found.target} as canonical, which is not on this site"
        return every & ~found.barred, f"leads off the site, to {found.target}"
    if found.barred:
        return found.barred, "is barred by robots.txt"
    if found.hidden:
        return found.hidden, "says noindex"
    if led and found.marks & Mark.ONLY_PASSWORD:
        return every, "only asks for a password"
    return 0, ""


@check(
    "site-nofollow",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    whole_host=True,
    needs=(Need.LINKS, Need.PAGES),
)
def site_nofollow(site: Site) -> Iterator[Hit]:
    """The start page and nearly all pages say nofollow, or nearly all their links are unfollowed.

    Why: An obedient crawler goes no further than the page that it came to.
    Mend: Take nofollow out of the template's tag, header or links; it is not what keeps a page out of listings.
    Rests on: The robots meta tag: nofollow covers every link of a page; `rel` token lists of WHATWG HTML.
    Evidence: The tag, header or link on the start page.
    """
    start = site.front_id
    if start is None:
        return
    pages, *told = site.rows(
        "SELECT count(*), "
        + ", ".join(f"count(*) FILTER (nofollow & {1 << i} > 0)" for i in range(len(site.crawlers)))
        + " FROM fact WHERE origin = ? AND html AND status < 300",
        [site.base_origin],
    )[0]
    if pages < MANY:
        return
    says = site.one("SELECT nofollow & ~barred FROM fact WHERE id = ?", [start]) or 0
    mask = sum(1 << i for i, count in enumerate(told) if count >= NEARLY_ALL * pages and says >> i & 1)
    if mask:
        shown = said(site, [start], mask, "nofollow").get(start, ())
        yield Hit(
            site.base, mask, "the start page and nearly all pages say nofollow: obedient crawlers go no further", shown
        )
        return
    links, unfollowed, at_start, at_start_unfollowed = site.rows(
        f"""SELECT count(*), count(*) FILTER (l.flags & {UNFOLLOWED} > 0), count(*) FILTER (l.source = {start}),
        count(*) FILTER (l.source = {start} AND l.flags & {UNFOLLOWED} > 0)
        FROM link l JOIN fact f ON f.id = l.source JOIN address t ON t.id = l.target
        WHERE f.origin = ? AND t.site AND f.status < 300""",
        [site.base_origin],
    )[0]
    if links >= MANY and unfollowed >= NEARLY_ALL * links and at_start and at_start_unfollowed >= NEARLY_ALL * at_start:
        shown = tuple(
            Evidence("link", where, line, text)
            for where, line, text in about(
                site, [start],
                f"""SELECT {WHERE}, l.line, l.text FROM link l JOIN picked ON picked.id = l.source JOIN address a ON a.id = l.source
                JOIN answer n ON n.address = a.id WHERE l.flags & {UNFOLLOWED} > 0 ORDER BY l.line, l.text LIMIT 3""",
            )
        )  # fmt: skip
        message = (
            f"{unfollowed:,} of {plural(links, 'link')} within the site are unfollowed: obedient crawlers go no further"
        )
        yield Hit(site.base, site.all_mask, message, shown)


@check(
    "script-only",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.PAGES,),
)
def script_only(site: Site) -> Iterator[Hit]:
    """The start page is served without text and links of its own: only scripts fill it.

    Why: What crawlers find depends on whether and how they run scripts; those that do not see an empty page.
    Mend: Serve text and links with the page (render on the server or when building); the scripts may take over then.
    Rests on: WHATWG HTML: what is served is what a parser without scripting sees.
    Evidence: The script that is to fill the page.
    """
    start = site.front_id
    if start is None:
        return
    found = site.rows(
        f"""SELECT {site.all_mask} & ~f.barred FROM fact f JOIN page p ON p.address = f.id WHERE f.id = ? AND f.status = 200
        AND f.own_words <= {FEW_WORDS} AND f.own_links = 0 AND (SELECT count(*) FROM link WHERE source = ?) = 0
        AND f.tail = ''""",
        [start, start],
    )
    shown = scripts(site, [start], most=3).get(start)
    if found and found[0][0] and shown:
        message = "the start page is served without text and links: only scripts fill it"
        yield Hit(site.base, found[0][0], message, shown)
