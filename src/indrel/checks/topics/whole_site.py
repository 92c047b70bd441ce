"""The site as a whole: its home page, its links, and whether only scripts fill it."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.evidence import WHERE, about, said, scripts
from indrel.checks.measures import FEW_WORDS, LIKE_WORDS, MANY, NEARLY_ALL
from indrel.checks.topics.canonical_values import unreachable_host
from indrel.core.address import origin_of, split
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, State, listing, plural, verb
from indrel.core.page.facts import UNFOLLOWED, Mark
from indrel.core.relation import VARIANTS, relation
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site


@check(
    "start-not-open",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    whole_host=True,
    needs=(Need.PAGES,),
)
def start_not_open(site: Site) -> Iterator[Hit]:
    """The start URL or the home page is not open.

    Why: Most links and searches lead there; if it is not open, crawlers find little else.
    Fix: Let the URL return 200 without a login, a noindex or a redirect off the site.
    Source: The states of this audit: RFC 9110 for responses, the robots meta tag, RFC 9309 for rules.
    Evidence: What decides its state.
    """
    for url in dict.fromkeys((site.base, site.base_origin + "/")):
        number = site.id_of(url)
        if number is None or site.is_closed(site.base_origin):
            continue
        name = "The home page" if url.endswith("://" + url.split("/")[2] + "/") else url
        front = site.front_id if url == site.base else number
        for at in (number,) if front in (None, number) else (number, front):
            found = _look(site, at)
            mask, what = _shut(site, found, at != number)
            if not mask:
                continue
            behind = reasons(site, [at]).get(at, [])
            shown = dict.fromkeys(e for i in range(len(site.crawlers)) if mask >> i & 1 for e in decides(behind, i))
            by = f" redirects to {found.url}, which" if at != number else ""
            evidence = tuple(shown) or (Evidence("status", found.url, None, what),)
            yield Hit(
                url, mask, f"{name}{by} {what}.", evidence, advice=_as_it_will_stand(site, found) or _opened(found)
            )
            break


def _as_it_will_stand(site: Site, found: _Look) -> str:
    """What to do if canonicals of a server on this machine or network point elsewhere: it is a preview."""
    here = split(site.base)
    if found.how != "canonical" or found.on_site or not found.target or not unreachable_host(here.host):
        return ""
    there, port = split(found.target), here.port or (443 if here.scheme == "https" else 80)
    spoken = "http://" if here.scheme == "http" else ""
    words = ("indrel", "audit", f"{there.origin}/", "--connect", f"{there.host}={spoken}{here.host}:{port}")
    return f"If this is a preview of {there.origin}, audit it under that name: {shlex.join(words)}"  # a page chose the name


def _opened(found: _Look) -> str:
    """What opens a home page, by what keeps it from being open."""
    if found.barred:
        return "Remove the rule from robots.txt, or limit it to the folders that you mean."
    if found.hidden:
        return "Remove the noindex from the home page."
    if found.tail == State.LOCKED:
        return "Let the server return the home page without a login."
    if found.tail == State.FOLDED and not found.on_site:
        if unreachable_host(split(found.target or "").host):
            return "Set the site's public URL in its settings: its pages point to a host that visitors cannot reach."
        word = "canonical" if found.how == "canonical" else "redirect"
        return f"If the site has moved, audit {found.target}. Otherwise remove the {word}."
    return "" if found.tail != State.BROKEN else "Repair the home page: it must return 200 with its content."


class _Look(NamedTuple):
    """The state of a URL, and where it leads."""

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
    """For which crawlers a URL is not open, and in which words; `led`: the home page redirects there."""
    every = site.all_mask
    if found.tail == State.BROKEN and found.how is not None:
        return every, "redirects in a loop"
    if found.tail in (State.LOCKED, State.GONE, State.BROKEN):
        if not site.is_live and found.tail == State.GONE:
            return 0, ""  # a folder can be a part of a site
        if not found.status:
            return every, f"does not respond: {found.error or 'no response'}"
        return every, f"returns “{status_text(found.status, found.error)}”"
    if found.tail == State.FOLDED and not found.on_site:
        if found.how == "canonical":
            return every & ~found.barred, f"has a canonical that points to another site, {found.target}"
        return every & ~found.barred, f"redirects to another site, {found.target}"
    if found.barred:
        return found.barred, "is blocked by robots.txt"
    if found.hidden:
        return found.hidden, "has noindex"
    if led and found.marks & Mark.ONLY_PASSWORD:
        return every, "is only a password form"
    return 0, ""


class _Link(NamedTuple):
    """A link of the home page: the origin that it leads to, whether that is the site's, and its line."""

    origin: str
    on_site: bool
    line: int | None
    text: str
    where: str


@check(
    "links-to-closed-host",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.SHUT_HOST,
    whole_host=True,
    needs=(Need.PAGES,),
    feeds=("link",),
)
def links_to_closed_host(site: Site) -> Iterator[Hit]:
    """Nearly all links on the home page point to a host that visitors cannot reach.

    Why: Neither visitors nor crawlers get beyond the home page, so the rest of the site is not found.
    Fix: Set the site's public URL in the template or generator, and build again.
    Source: RFC 6761 and RFC 1918 for host names and IP addresses that nobody can reach.
    Evidence: The first such links.
    """
    start = site.front_id
    if start is None or unreachable_host(split(site.base).host):
        return
    links = site.named(
        _Link,
        f"""SELECT t.origin, t.site, l.line, l.text, {WHERE} FROM link l JOIN address t ON t.id = l.target
        JOIN address a ON a.id = l.source JOIN answer n ON n.address = l.source WHERE l.source = ? ORDER BY l.line, l.text""",
        [start],
    )
    lost = [one for one in links if not one.on_site and unreachable_host(split(one.origin + "/").host)]
    inside = sum(one.on_site for one in links)
    if not lost or len(lost) < NEARLY_ALL * (len(lost) + inside):
        return
    host = lost[0].origin.partition("://")[2]
    message = (
        f"{len(lost):,} of {plural(len(links), 'link')} on the home page point to {host}, which visitors cannot reach."
    )
    shown = tuple(Evidence("link", one.where, one.line, one.text) for one in lost[:3])
    yield Hit(site.base, site.all_mask, message, shown, place=("link", "closed-host", host))


class _Home(NamedTuple):
    """A home page: what it is compared by, and where its canonicals point."""

    url: str
    title: str | None
    heading: str | None
    text_hash: int | None
    words: int
    canonicals: Sequence[str]


@check(
    "host-variants-serve",
    CheckClass.EXPOSED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.LIVE, Need.PAGES),
)
def host_variants_serve(site: Site) -> Iterator[Hit]:
    """Another variant of the host (http or https, with or without www) serves the same site.

    Why: Every page exists at several URLs. Links are spread over them, and engines choose one of them themselves.
    Fix: Redirect every URL of the other variants to the same path on this one (301), in the server's configuration.
    Source: RFC 3986 section 6.2.3: these are different URLs; RFC 6596 for canonicals, which would tell which one counts.
    Evidence: The status of the other variant's home page.
    """
    start = site.front_id
    own = next(iter(_homes(site, "f.id = ?", [start])), None) if start is not None else None
    if own is None:
        return
    others = {one["url"]: _Home(one["url"], one["title"], one["heading"], one["text_hash"], one["words"] or 0,
              one["canonicals"]) for one in site.meta.get("variant_homes") or [] if not one["noindex"]}  # fmt: skip
    for home in _homes(site, "f.site AND f.path = ? AND f.id <> ? AND f.open > 0", [split(own.url).path, start]):
        others.setdefault(home.url, home)
    found = [
        url
        for url, home in sorted(others.items())
        if relation(url, own.url).kind in VARIANTS and _is_same(own, home)
        and all(origin_of(target) == origin_of(url) for target in home.canonicals)
    ]  # fmt: skip
    if found:
        they, does, has = ("They", "redirect", "have") if len(found) > 1 else ("It", "redirects", "has")
        message = (
            f"{listing(found)} {verb(len(found), 'serves', 'serve')} the home page too. {they} neither {does} to {own.url} nor {has} "
            "a canonical that points there."
        )
        shown = tuple(Evidence("status", url, None, "200 OK, no redirect") for url in found)
        yield Hit(site.base, site.all_mask, message, shown, also=tuple(found), pair=(found[0], own.url))


def _homes(site: Site, condition: str, parameters: list[object]) -> list[_Home]:
    return site.named(
        _Home,
        f"""SELECT f.origin || f.path, p.title, p.heading, p.text_hash, coalesce(p.own_words, 0),
            coalesce(list(t.origin || t.path) FILTER (t.id IS NOT NULL), []) FROM fact f JOIN page p ON p.address = f.id
        LEFT JOIN canonical c ON c.address = f.id AND NOT c.in_body LEFT JOIN address t ON t.id = c.target
        WHERE {condition} AND f.status = 200 GROUP BY ALL""",
        parameters,
    )


def _is_same(one: _Home, other: _Home) -> bool:
    """Whether two home pages are the same page: the same text, or the same names and nearly as many words (it may hold a date)."""
    if one.text_hash == other.text_hash:
        return one.text_hash is not None
    named = bool(one.title) and (one.title, one.heading) == (other.title, other.heading)
    return named and abs(one.words - other.words) <= max(FEW_WORDS, LIKE_WORDS * max(one.words, other.words))


@check(
    "site-nofollow",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    whole_host=True,
    needs=(Need.LINKS, Need.PAGES),
)
def site_nofollow(site: Site) -> Iterator[Hit]:
    """The home page and nearly all pages have page-wide nofollow, or nearly all their links are nofollow.

    Why: A crawler that obeys nofollow does not go beyond the page that it came to.
    Fix: Remove nofollow from the template's tag, header or links. It does not keep pages out of the index.
    Source: The robots meta tag: nofollow covers every link of a page; `rel` token lists of WHATWG HTML.
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
            site.base,
            mask,
            "The home page and nearly all pages have page-wide nofollow: crawlers that obey it go no further.",
            shown,
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
        message = f"{unfollowed:,} of {plural(links, 'link')} within the site are nofollow: crawlers that obey it go no further."
        yield Hit(site.base, site.all_mask, message, shown)


@check(
    "script-only",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.PAGES,),
)
def script_only(site: Site) -> Iterator[Hit]:
    """The home page is served without text and links of its own: only scripts fill it.

    Why: What crawlers find depends on whether and how they run scripts; the ones that do not see an empty page.
    Fix: Serve text and links with the page (render on the server or in the build). The scripts can take over then.
    Source: WHATWG HTML: what is served is what a parser without scripting sees.
    Evidence: The script that fills the page.
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
        message = "The home page is served without text and links: only scripts fill it."
        yield Hit(site.base, found[0][0], message, shown)
