"""URLs without an end, and the views of pages that a wiki or tracker makes."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import Advice
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import HEADER, STATUS, TAG, Change, to
from indrel.checks.evidence import WHERE, first_link, links_to
from indrel.checks.measures import MANY, MOST_NAMED, NEARLY_ALL
from indrel.core.address import origin_of, split
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural
from indrel.core.page.facts import UNFOLLOWED
from indrel.core.space import is_dated, is_in, is_session, is_tree
from indrel.decide.copies import view_of
from indrel.decide.site import Site

MOST_READ = 2_000
"""Pages of one space that are looked at."""

MOST_LINKS = 20_000
"""Links into one space, and pages that may be in it, that are looked at."""

SHOWN_NAMES = 3


class _Page(NamedTuple):
    """A page of a space: its URL, kind, heading and text, whether it can be indexed."""

    url: str
    kind: str
    heading: str
    text_hash: int | None
    is_open: bool


class _Way(NamedTuple):
    """A link that leads into a space from outside."""

    target: str
    is_followed: bool
    evidence: Evidence


@check(
    "endless-space",
    CheckClass.EXPOSED,
    Severity.ASK,
    follows=Follows.SHUT_HOST,
    needs=(Need.PAGES, Need.LINKS),
)
def endless_space(site: Site) -> Iterator[Hit]:
    """URLs of one pattern lead to ever more new URLs.

    Why: Crawlers spend their fetches there, and read the real pages late or not at all.
    Fix: Make these links buttons or scripts without a URL, end the series at a date or depth, or block the pattern in robots.txt.
    Source: Engine practice: calendars, facets, sessions and relative links that nest have no end, and are crawled for long.
    Evidence: The link that leads in.
    """
    spaces: dict[str, list[object]] = site.meta.get("spaces") or {}
    left: dict[str, int] = site.meta.get("bounded") or {}
    read = int(site.one("SELECT count(*) FROM fact WHERE site AND html"))
    for shape, told in spaces.items():
        count, url = int(str(told[0])), str(told[1])
        pages = _members(site, shape)
        if count < MANY or not left.get(shape) or f"{shape}&*" in spaces or not _is_endless(shape, url, pages):
            continue
        mask = site.one(f"SELECT {site.all_mask} & ~barred FROM fact WHERE origin || path = ?", [url])
        ways = _ways_in(site, shape, url)
        if not mask:
            continue
        severity = Severity.FIX if count > read / 2 and sum(p.is_open for p in pages) > len(pages) / 2 else None
        if ways and not any(way.is_followed for way in ways):
            severity = Severity.NOTE  # crawlers that obey nofollow do not go in
        first = next((way for way in ways if way.is_followed), ways[0] if ways else None)
        shown = (first.evidence,) if first else (Evidence("status", url, None, "read"),)
        message = f"{_named(shape, pages)} have no end: {count:,} were read, and they led to {left[shape]:,} more."
        yield Hit(
            url,
            mask,
            message,
            shown,
            severity=severity,
            advice=_edit(site, shape, url),
            place=("space", shape),
            pages=count,
        )


def _members(site: Site, shape: str) -> list[_Page]:
    """Pages that were read in a space; of a tree, those of its host that repeat."""
    origin, beginning = _beginning(shape)
    holds = "contains" if is_session(shape) else "starts_with"
    rows = site.named(
        _Page,
        f"""SELECT f.origin || f.path, f.kind, coalesce(p.heading, p.title, ''), f.text_hash, f.open > 0 FROM fact f
        JOIN page p ON p.address = f.id WHERE f.origin = ? AND {holds}(lower(f.path), ?) ORDER BY length(f.path) DESC, f.path
        LIMIT {MOST_LINKS}""",
        [origin, beginning],
    )
    found = (one for one in rows if is_in(one.url, shape))
    return [one for one, _ in zip(found, range(MOST_READ), strict=False)]


def _beginning(shape: str) -> tuple[str, str]:
    """The origin of a pattern's URLs, and what their paths begin with; of sessions, the parameter that they contain."""
    origin = origin_of(shape)
    path = shape[len(origin) :]
    if is_session(shape):
        return origin, path.partition("?")[2].removesuffix("*")
    return origin, "/" if is_tree(shape) else re.split(r"[*?;]", path)[0]


def _is_endless(shape: str, url: str, pages: list[_Page]) -> bool:
    """Whether a pattern that was read in part is a space: not a list in pages, nor documents that numbers name."""
    if is_tree(shape) or shape.endswith("?*") or is_session(shape) or "&" in shape or is_dated(url):
        return True
    if not pages:
        return False
    texts, headings = ({p.text_hash for p in pages}, {p.heading for p in pages})
    numbered = sum(p.kind == "numbered-page" for p in pages)
    if numbered >= NEARLY_ALL * len(pages):
        return len(texts) < NEARLY_ALL * len(pages)
    return len(headings) < NEARLY_ALL * len(pages)


def _ways_in(site: Site, shape: str, url: str) -> list[_Way]:
    """Links from outside a space into it, the first pages first."""
    origin, beginning = _beginning(shape)
    if is_tree(shape):
        number = site.id_of(url)
        found = links_to(site, [number], most=1).get(number, []) if number is not None else []
        return [_Way(url, True, one) for one in found]
    holds = "contains" if is_session(shape) else "starts_with"
    rows = site.rows(
        f"""SELECT t.origin || t.path, l.flags & {UNFOLLOWED} = 0, s.origin || s.path, {WHERE}, l.line, l.text FROM link l
        JOIN address t ON t.id = l.target JOIN address a ON a.id = l.source JOIN address s ON s.id = l.source
        JOIN answer n ON n.address = l.source WHERE t.origin = ? AND {holds}(lower(t.path), ?)
        ORDER BY s.path, l.line, t.path LIMIT {MOST_LINKS}""",
        [origin, beginning],
    )
    ways = (
        _Way(target, followed, Evidence("link", where, line, text))
        for target, followed, source, where, line, text in rows
        if is_in(target, shape) and not is_in(source, shape)
    )
    return [way for way, _ in zip(ways, range(50), strict=False)]


def _named(shape: str, pages: list[_Page]) -> str:
    """The URLs of a space in words."""
    origin = origin_of(shape)
    place = shape[len(origin) :].partition("?")[0]
    if is_session(shape):
        return f"URLs with the session parameter {code(shape.rpartition('?')[2].removesuffix('=*'))}"
    if is_tree(shape):
        return "URLs whose folders repeat or change their order"
    if "?" not in shape:
        return f"URLs like {code(place)}"
    counted: dict[str, int] = defaultdict(int)
    for page in pages:
        for name in {
            pair.partition("=")[0] for pair in split(page.url).path.partition("?")[2].replace(";", "&").split("&")
        }:
            counted[name] += 1
    names = sorted(counted, key=lambda name: (-counted[name], name))
    more = f" and {plural(len(names) - SHOWN_NAMES, 'other parameter')}" if len(names) > SHOWN_NAMES else ""
    shown = [code(name) for name in names[:SHOWN_NAMES]]
    return f"URLs under {code(place + '?')} with {', '.join(shown) + more if more else listing(shown)}"


def _edit(site: Site, shape: str, url: str) -> Advice | str:
    """The rule that ends a space, if it blocks nothing wanted."""
    origin, beginning = _beginning(shape)
    place, question, query = shape[len(origin) :].partition("?")
    if is_session(shape):
        name = query.removesuffix("=*")
        return Advice(f"Keep the session in a cookie, so that no link has {code(name)}.", key="session")
    if is_tree(shape):
        return Advice(
            "Begin the links with a slash, or write them with the base of the site, and return 404 for paths that do not exist.",
            key="tree",
        )
    several = "&" in query
    rule = f"{place}?*&" if several and "*" not in place else beginning + ("?" if question and "*" not in place else "")
    known = rule.removesuffix("?*&") + "?%&%" if several and "*" not in place else rule.replace("%", "\\%") + "%"
    wanted = site.one(
        "SELECT count(*) FROM fact WHERE origin = ? AND known AND want = 'show' AND path LIKE ? ESCAPE '\\'",
        [origin, known.replace("_", "\\_")],
    )
    if wanted or len(rule) < 2:
        return ""
    text = "Make these links buttons or scripts without a URL, or block the pattern in robots.txt: "
    return Advice(text + code(f"Disallow: {rule}") + ".", key=f"rule {rule}", proof="the rule blocks no wanted page")


# ---------------------------------------------------------------- views of pages


class _Copy(NamedTuple):
    """A view of a page that can be indexed: what names it, its response, and whether links to it are followed."""

    id: int
    url: str
    crawlers: int
    status: int
    entry: int | None


@check(
    "copies-open",
    CheckClass.EXPOSED,
    Severity.ASK,
    follows=Follows.SHUT_HOST,
    change=Change(STATUS, to(f"{TAG} in the head, or the header {HEADER}")),
    draft="headers",
    feeds=("answer", "hide"),
)
def copies_open(site: Site) -> Iterator[Hit]:
    """Views of pages (history, difference, edit form, raw text, permalink) can be indexed.

    Why: There are many times more of them than pages. They use up fetches, and show old or half text in results.
    Fix: Give these views noindex. If there are very many, block them in robots.txt once they are no longer indexed.
    Source: Practice: the revisions and forms of a wiki or tracker should not be indexed.
    Evidence: The response, and a link to the view.
    """
    found = site.named(
        _Copy,
        """SELECT id, origin || path, open, status, entry FROM fact WHERE known AND open > 0 AND want = 'hide' AND kind = 'page-copy'
        AND entry IS NULL ORDER BY length(path), path""",
    )
    patterns: dict[tuple[str, str], list[_Copy]] = defaultdict(list)
    for one in found:
        patterns[_view(one.url)].append(one)
    firsts = [members[0] for members in patterns.values()]
    links = first_link(site, [one.id for one in firsts])
    for (origin, name), members in sorted(patterns.items()):
        first = members[0]
        mask = 0
        for one in members:
            mask |= one.crawlers
        count = len(members)
        message = f"{plural(count, 'view')} of pages with {code(name)} can be indexed."
        status = Evidence(
            "status", first.url, None, f"{status_text(first.status, None)}, no noindex, no canonical elsewhere"
        )
        also = tuple(one.url for one in members[1 : MOST_NAMED + 1])
        yield Hit(first.url, mask, message, (status, *links.get(first.id, ())), also=also, place=("view", origin, name))


def _view(url: str) -> tuple[str, str]:
    """What of a URL names the view: the host, and a word of the path or parameters."""
    return origin_of(url), view_of(split(url).path)
