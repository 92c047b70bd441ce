"""Links and redirects that miss what they mean: pages sent to the home page, links without the base path, routes behind `#`."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.base.sqltext import quoted_list
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINK, Change, with_path
from indrel.checks.evidence import Linking, about, answers, linking_pages, links_to, listings, put_forward
from indrel.checks.measures import MANY, MOST_NAMED
from indrel.core.address import HOME_NAMES, split
from indrel.core.model import CheckClass, Evidence, Severity, plural
from indrel.core.relation import HOME, UNRELATED, relation
from indrel.decide.kinds import JUNK
from indrel.decide.site import Site

_WORD = re.compile(r"[a-z]{3,}")
FEW_ROUTES = 2


class _Sent(NamedTuple):
    """A URL that redirects, where that ends, whether it is the home page, and what kind the end is."""

    id: int
    url: str
    crawlers: int
    target_url: str
    is_home: bool
    kind: str
    listed: bool


@check(
    "gone-to-start",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("redirect",),
)
def gone_to_start(site: Site) -> Iterator[Hit]:
    """Many URLs with different content redirect to the home page.

    Why: Engines treat such a redirect as a soft 404: what the old page had gained is lost, and visitors do not find what
    they came for.
    Fix: Redirect each URL to the page that took its place. Where there is none, return 410, and remove links and entries.
    Source: Engine practice: redirects of many pages to the home page are soft 404s; RFC 9110 section 15.5.11 for 410.
    Evidence: The redirect, and the sitemap entry or link.
    """
    found = site.named(
        _Sent,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, e.origin || e.path, e.start OR e.path = '/', e.kind, f.listed
        FROM fact f JOIN fact e ON e.id = f.folds_into WHERE f.site AND e.site AND f.fold_how IN ('redirect', 'refresh')
        AND e.tail = '' AND f.kind NOT IN ({quoted_list(JUNK)}) AND f.want NOT IN ('hide', 'lock', 'drop')
        AND (f.listed OR f.followed + f.unfollowed > 0 OR f.id IN (SELECT address FROM given WHERE why IN ('also', 'before')))
        ORDER BY f.origin, f.path""",
    )
    groups: dict[str, list[_Sent]] = defaultdict(list)
    for one in found:
        if one.crawlers and one.kind not in JUNK and _names_differ(one):
            groups[one.target_url].append(one)
    groups = {url: members for url, members in groups.items() if len(members) >= MANY}
    ids = [one.id for members in groups.values() for one in members]
    shown, links, entries = answers(site, ids), links_to(site, ids, most=1), listings(site, ids)
    named = put_forward(site, ids)
    for url, members in groups.items():
        where = "the home page" if members[0].is_home else url
        message = f"{plural(len(members), 'URL')} with different names redirect to {where}."
        if members[0].is_home:
            message = message.removesuffix(".") + ": engines treat that as a soft 404."
        severity = None if members[0].is_home else Severity.ASK
        advice = "" if members[0].is_home else ON_PURPOSE
        for one in members:
            behind = [entries[one.id][1]] if one.id in entries else [*links.get(one.id, ()), *named.get(one.id, ())][:1]
            evidence = (*shown[one.id], *behind)
            place = ("redirect", "to-one", url)
            yield Hit(
                one.url,
                one.crawlers,
                message,
                evidence,
                (url,),
                severity,
                advice=advice,
                pair=(one.url, url),
                place=place,
            )


ON_PURPOSE = "If the pages were merged into this one, leave it. Otherwise redirect each URL to the page that took its place, or return 410."


def _names_differ(one: _Sent) -> bool:
    """Whether the names of two URLs have nothing in common."""
    path, target = split(one.url).path.lower(), split(one.target_url).path.lower()
    if one.is_home:
        return relation(one.url, one.target_url).kind in (HOME, UNRELATED) and not re.match(
            HOME_NAMES, path.partition("?")[0]
        )
    return relation(one.url, one.target_url).kind == UNRELATED and not set(_WORD.findall(path)) & set(
        _WORD.findall(target)
    )


class _Outside(NamedTuple):
    """A link's target outside the site's base path, and the page below it that it means."""

    id: int
    url: str
    crawlers: int
    meant: str
    is_gone: bool


@check(
    "link-outside-base",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    feeds=("link",),
    change=Change(LINK, with_path),
)
def link_outside_base(site: Site) -> Iterator[Hit]:
    """Links point outside the site's base path, where nothing exists; the page is below the base.

    Why: Visitors and crawlers run into an error: the links lack the folder that the site is published in.
    Fix: Set the base path in the generator, and write it into every link, or write links relative to the page.
    Source: RFC 3986 section 5.2.2: a path that begins with a slash begins at the root of the host.
    Evidence: The links, and the page that exists below the base.
    """
    base = split(site.base).path.partition("?")[0].rpartition("/")[0]
    if not base:
        return
    missing = "f.tail = 'gone'" if site.is_live else "f.tail IN ('gone', 'unread')"
    found = site.named(
        _Outside,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, min(e.origin || e.path), f.tail = 'gone' FROM fact f
        JOIN fact e ON e.origin = f.origin AND rtrim(e.path, '/') = rtrim(? || f.path, '/')
        WHERE f.origin = ? AND NOT starts_with(f.path, ? || '/') AND f.path <> ? AND f.followed + f.unfollowed > 0 AND {missing}
        AND e.status < 400 AND e.tail IN ('', 'folded') GROUP BY f.id, f.origin, f.path, f.barred, f.tail ORDER BY f.path""",
        [base, site.base_origin, base, base],
    )
    ids = [one.id for one in found]
    links, pages, shown = (
        links_to(site, ids),
        linking_pages(site, ids),
        answers(site, [one.id for one in found if one.is_gone]),
    )
    for one in found:
        if one.crawlers:
            from_pages = pages.get(one.id, Linking())
            message = f"Links point to {one.url}, which is outside {base}/ and does not exist. {one.meant} does."
            evidence = (*links.get(one.id, ()), *shown.get(one.id, ()))
            place = ("link", "without-base", base)
            yield Hit(one.url, one.crawlers, message, evidence, (one.meant, *from_pages.urls[:MOST_NAMED]), place=place)


@check(
    "hash-routes",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.PAGES,),
    feeds=("slip",),
)
def hash_routes(site: Site) -> Iterator[Hit]:
    """The pages of the site share one URL behind `#/...`.

    Why: The part after `#` is not sent to the server: engines see one page, and index the others not at all.
    Fix: Let the app's router use paths (the History API), and let the server return the page of each path.
    Source: RFC 9110 section 7.1: the fragment is no part of the request; RFC 3986 section 3.5.
    Evidence: The links.
    """
    start = site.front_id
    if start is None:
        return
    mask = site.one(f"SELECT {site.all_mask} & ~barred FROM fact WHERE id = ? AND tail = ''", [start]) or 0
    routes = about(
        site,
        [start],
        """SELECT s.what, s.line, s.text, coalesce(n.file, a.origin || a.path) FROM slip s JOIN picked ON picked.id = s.source
        JOIN address a ON a.id = s.source JOIN answer n ON n.address = s.source WHERE s.kind = 'hash' ORDER BY s.line, s.text""",
    )
    names = list(dict.fromkeys(what for what, *_ in routes))
    others = site.one(
        "SELECT count(DISTINCT l.target) FROM link l JOIN fact t ON t.id = l.target WHERE l.source = ? AND t.site",
        [start],
    )
    if mask and len(names) >= max(FEW_ROUTES, others):
        shown = tuple(Evidence("link", where, line, text) for _, line, text, where in routes[:3])
        examples = " and ".join(code(name) for name in names[:2])
        message = (
            f"The whole site stands at one URL: {plural(len(names), 'page')} share it behind `#`, such as {examples}."
        )
        yield Hit(site.base, mask, message, shown, place=("link", "hash"))
