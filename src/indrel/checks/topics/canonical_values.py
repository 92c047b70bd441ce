"""Canonicals as written: values that cannot be used, that are bent, or that point to another site or host."""

from __future__ import annotations

import ipaddress
import re
from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import Advice
from indrel.checks.advice import targets as leads
from indrel.checks.catalogue import Follows, Hit, check
from indrel.checks.changes import NAMED, NAMES_ITSELF, Change
from indrel.checks.evidence import WHERE, answers, canonicals, stated
from indrel.checks.measures import MANY, NEARLY_ALL
from indrel.checks.topics.canonical import ABSOLUTE, OFTEN, SEVERAL, special, special_read, stage_special
from indrel.core.address import site_key, split
from indrel.core.model import CheckClass, Evidence, Severity
from indrel.core.relation import in_words, relation
from indrel.decide.predicates import CANONICAL_COUNTS
from indrel.decide.site import Site

NOBODY = ("localhost", "local", "internal", "invalid")
"""Top levels of names that no visitor reaches (RFC 6761, RFC 6762)."""

PLACEHOLDERS = ("example.com", "example.net", "example.org")
"""Names that documentation uses (RFC 2606): a canonical there is a placeholder that nobody replaced."""


@check(
    "canonical-unusable",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("unusable-canonical",),
    change=NAMES_ITSELF,
)
def canonical_unusable(site: Site) -> Iterator[Hit]:
    """The canonical is unusable: empty, not an http(s) URL, or voided by an attribute.

    Why: Engines ignore it and choose themselves which URL represents the page.
    Fix: Write it as `<link rel="canonical" href="https://...">`, without hreflang, lang, media or type.
    Source: RFC 6596; that those attributes void it is engine practice.
    Evidence: The tag or header.
    """
    for url, mask, fault, href, origin, line, text, where in site.rows(
        f"""SELECT a.origin || a.path, {site.all_mask} & ~a.barred, c.fault, c.href, c.origin, c.line, c.text, {WHERE} FROM canonical c
        JOIN fact a ON a.id = c.address JOIN answer n ON n.address = c.address
        WHERE c.fault IS NOT NULL AND NOT c.in_body AND a.site AND a.status < 300
        AND c.address NOT IN (SELECT c.address FROM canonical c WHERE {CANONICAL_COUNTS} AND {OFTEN}
            GROUP BY c.address HAVING {SEVERAL})
        ORDER BY a.origin, a.path, c.origin, c.line"""
    ):
        if mask:
            shown = Evidence("header" if origin else "canonical", where, line, text)
            scheme = re.match(r"\s*([a-z][a-z0-9+.-]*):", href or "", re.IGNORECASE)
            place = (shown.kind, "unusable", scheme[1].lower() if scheme else re.sub(r"[`“].*[`”]", "", fault))
            yield Hit(url, mask, f"Engines ignore the canonical: {fault}.", (shown,), place=place)


@check(
    "canonical-relative",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    feeds=("relative-canonical",),
    change=NAMES_ITSELF,
)
def canonical_relative(site: Site) -> Iterator[Hit]:
    """The canonical is a relative URL.

    Why: A base tag, another folder or a copied template can bend it, so that it points to a URL that does not exist.
    Fix: Write the whole URL, with scheme and host.
    Source: RFC 6596 section 3: relative values are allowed, absolute ones preferred; resolved against the base.
    Evidence: The canonical; the URL that it resolves to.
    """
    wrong = {one.id: (one.target, one.unlisted) for one in special(site, "bent")}
    for number, url, mask, target, target_url, href, line, text, where in site.rows(
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, c.target, t.origin || t.path, c.href, c.line, c.text,
            coalesce(n.file, f.origin || f.path) FROM canonical c JOIN fact f ON f.id = c.address
            JOIN answer n ON n.address = c.address JOIN fact t ON t.id = c.target
            WHERE c.fault IS NULL AND NOT c.in_body AND f.site AND f.status < 300 AND c.origin = 0 AND NOT {ABSOLUTE}
            ORDER BY f.origin, f.path, c.line"""
    ):
        shown = (Evidence("canonical", where, line, text),)
        found, crawlers = wrong.get(number, (None, 0))
        if found == target and mask & crawlers:
            message = f"The canonical {code(href)} resolves to {target_url}, which is not open."
            pair = (url, target_url)
            yield Hit(url, mask & crawlers, message, shown, also=(target_url,), severity=Severity.FIX, pair=pair)
        elif mask:
            also = () if target_url == url else (target_url,)
            yield Hit(url, mask, f"The canonical is relative: {code(href)} resolves to {target_url}.", shown, also=also)


@check(
    "canonical-fragment",
    CheckClass.FLAW,
    Severity.NOTE,
    follows=Follows.NOTHING,
    feeds=("canonical-fragment",),
    change=Change(NAMED, lambda finding, before: re.sub(r"#[^\"'\s>]*", "", before)),
)
def canonical_fragment(site: Site) -> Iterator[Hit]:
    """The canonical has a fragment.

    Why: The part after `#` is not part of the URL that is fetched: engines drop it.
    Fix: Remove the fragment.
    Source: RFC 9110 section 7.1: fragments are not sent; that engines drop them is engine practice.
    Evidence: The canonical.
    """
    for url, mask, origin, line, text, where in site.rows(
        f"""SELECT a.origin || a.path, {site.all_mask} & ~a.barred, c.origin, c.line, c.text, {WHERE} FROM canonical c
        JOIN fact a ON a.id = c.address JOIN answer n ON n.address = c.address
        WHERE contains(c.href, '#') AND c.fault IS NULL AND NOT c.in_body AND a.site AND a.status < 300
        ORDER BY a.origin, a.path, c.line"""
    ):
        if mask:
            shown = Evidence("header" if origin else "canonical", where, line, text)
            yield Hit(url, mask, "The canonical has a fragment, which engines drop.", (shown,))


class _Elsewhere(NamedTuple):
    """A page whose canonical points to another origin, and whether that origin's host is declared closed."""

    id: int
    url: str
    crawlers: int
    target_url: str
    closed: bool

    @property
    def host(self) -> str:
        return split(self.target_url).host


class _Wanted(NamedTuple):
    """A page that the intent file wants shown, by which entry, and where it leads: by its canonical or by a redirect."""

    id: int
    url: str
    crawlers: int
    target_url: str
    entry: int
    names_it: bool


def unreachable_host(host: str) -> bool:
    """Whether no visitor reaches a host: this machine, a private or loopback address, a reserved or placeholder name."""
    name = host.strip("[]").rstrip(".").lower()
    try:
        number = ipaddress.ip_address(name)
    except ValueError:
        return name.rpartition(".")[2] in NOBODY or name.removeprefix("www.") in PLACEHOLDERS
    return number.is_private or number.is_loopback or number.is_link_local or number.is_unspecified


@check(
    "canonical-to-closed-host",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.CANONICAL,
    feeds=("canonical",),
    change=NAMES_ITSELF,
)
def canonical_to_closed_host(site: Site) -> Iterator[Hit]:
    """The canonical points to a host that is declared closed or that visitors cannot reach.

    Why: The page is represented by a URL that nobody can open. Often the staging or build URL was never replaced.
    Fix: Set the site's public URL in the template or generator, and build again.
    Source: RFC 6596 section 5; RFC 6761 and RFC 1918 for host names and IP addresses that nobody can reach.
    Evidence: The canonical, and the declaration in the intent file if there is one.
    """
    own = {split(o + "/").host for o in site.starts}
    stage_special(site)
    named = site.rows(
        """SELECT DISTINCT t.origin, t.closed FROM fact f JOIN fact t ON t.id = f.folds_to
        WHERE f.site AND f.fold_how = 'canonical' AND f.origin <> t.origin AND NOT f.closed"""
    )
    hosts = ((origin, split(origin + "/").host, closed) for origin, closed in named)
    wrong = sorted({origin for origin, host, closed in hosts if closed or (host not in own and unreachable_host(host))})
    chosen = site.named(
        _Elsewhere,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path, t.closed FROM fact f
        JOIN fact t ON t.id = f.folds_to WHERE f.site AND f.fold_how = 'canonical' AND f.origin <> t.origin
        AND NOT f.closed AND t.origin IN (SELECT unnest(?::VARCHAR[])) ORDER BY f.origin, f.path""",
        [wrong],
    ) if wrong else []  # fmt: skip
    tags = canonicals(site, [one.id for one in chosen])
    for one in chosen:
        shown = list(tags.get(one.id, ()))
        if one.closed:
            host = site_key(one.target_url)
            line = site.intent.host_lines.get(host)
            shown.append(Evidence("intent", site.intent.where, line, f'name = "{host}", closed = true'))
        what = "declared closed" if one.closed else "a host that visitors cannot reach"
        if one.crawlers:
            message = f"The canonical points to {one.target_url}, but {one.host} is {what}."
            pair = (one.url, one.target_url)
            yield Hit(one.url, one.crawlers, message, tuple(shown), also=(one.target_url,), pair=pair)


COPY_OR_ADDRESS = Advice(
    "If this host is a copy (staging, preview), keep the canonicals and require a login on the whole host. "
    "If it is the public site, set its URL in the template or generator.",
    key="copy",
)


@check(
    "canonical-off-site",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.CANONICAL,
    feeds=("canonical-fold",),
)
def canonical_off_site(site: Site) -> Iterator[Hit]:
    """The canonical points to another site.

    Why: The page asks engines to index the other site instead: right for a reprint, ruinous for a copied template.
    Fix: If the content belongs to the other site, keep the canonical. Otherwise let it point to the page's own URL.
    Source: RFC 6596: the canonical may be on another host; the page is then represented by it.
    Evidence: The canonical.
    """
    own = {split(o + "/").host for o in site.starts}
    stage_special(site)
    found = site.named(
        _Elsewhere,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path, t.closed FROM fact f
        JOIN fact t ON t.id = f.folds_to WHERE f.site AND f.fold_how = 'canonical' AND NOT t.site AND NOT f.closed
        AND f.id NOT IN (SELECT id FROM special WHERE why = 'variant') ORDER BY f.origin, f.path""",
    )
    bare = {host.removeprefix("www.") for host in own}
    chosen = [one for one in found if one.host.removeprefix("www.") not in bare and not unreachable_host(one.host)]
    tags = canonicals(site, [one.id for one in chosen])
    pages = int(site.one("SELECT count(*) FROM fact WHERE site AND html AND status < 300"))
    same = Counter(one.host for one in chosen if split(one.url).path == split(one.target_url).path)
    copied = {host for host, count in same.items() if count >= MANY and count >= NEARLY_ALL * pages}
    for one in chosen:
        if one.crawlers:
            message = f"The canonical points to another site: {one.target_url}."
            advice = COPY_OR_ADDRESS if one.host in copied else ""
            pair, shown = (one.url, one.target_url), tuple(tags.get(one.id, ()))
            yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url,), pair=pair, advice=advice)


@check(
    "canonical-host-variant",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.CANONICAL,
    feeds=("canonical-fold",),
    change=NAMES_ITSELF,
)
def canonical_host_variant(site: Site) -> Iterator[Hit]:
    """The canonical differs from the URL that serves the page only in scheme, www or port.

    Why: The canonical names one variant of the host, while this one serves the page and the links and sitemaps use it.
    Fix: Choose one variant of the host, redirect the others to it, and use it in links, sitemaps and canonicals.
    Source: RFC 3986 section 6.2.3: these are different URLs, however similar they look.
    Evidence: The canonical.
    """
    found = special(site, "variant")
    tags = canonicals(site, [one.id for one in found])
    # a target that is unread or elsewhere may well be the right variant: only of the others it is asked where they lead
    led = leads(site, special_read(site, "variant"))
    for one in found:
        said = in_words(relation(one.url, one.target_url))
        message = f"The canonical points to another variant of this host, {one.target_url}: {said}."
        shown, pair = tuple(tags.get(one.id, ())), (one.url, one.target_url)
        advice = ONE_VARIANT if one.id not in led or led[one.id].is_open else ""
        yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url,), pair=pair, advice=advice)


ONE_VARIANT = Advice(
    "If the variant in the canonicals is the one you want, redirect this one to it. Otherwise set the right URL in the template, "
    "so that each page's canonical points to its own URL.",
    key="variant",
)


@check(
    "canonical-wanted-folded",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.CANONICAL,
    feeds=("fold", "stated"),
    change=NAMES_ITSELF,
)
def canonical_wanted_folded(site: Site) -> Iterator[Hit]:
    """A page that the intent file wants shown redirects to another page, or its canonical points to one.

    Why: The other page is indexed in its place. If the entry is a pattern and the URL redirects, only a person can say
    whether the entry means this URL.
    Fix: Let the canonical point to the page's own URL, or change the want.
    Source: RFC 6596; RFC 9110 section 15.4; the want that the intent file states.
    Evidence: The canonical, or the status and where it redirects; and the entry of the intent file.
    """
    stage_special(site)
    found = site.named(
        _Wanted,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path, f.entry, f.fold_how = 'canonical'
        FROM fact f JOIN fact t ON t.id = f.folds_to WHERE f.site AND f.known AND f.entry IS NOT NULL AND f.want = 'show'
        AND NOT ({site.terms.another_form}) AND (f.fold_how = 'canonical' AND f.id NOT IN (SELECT id FROM special WHERE why = 'variant')
            OR f.fold_how IN ('redirect', 'refresh') AND f.tail = 'folded' AND NOT f.listed) ORDER BY f.origin, f.path""",
    )
    ids = [one.id for one in found]
    tags, leads = canonicals(site, ids), answers(site, ids)
    for one in found:
        entry = site.entry(one.entry)
        if not one.crawlers or entry is None:
            continue
        does = "its canonical points to" if one.names_it else "it redirects to"
        shown = (*(tags.get(one.id, ()) if one.names_it else leads[one.id]), *stated(site, one.entry))
        mild = None if one.names_it or entry.names_one else Severity.ASK
        advice = "" if one.names_it else "Return the page itself, or give URLs that redirect another want (`any`)."
        message = f"You want this page shown, but {does} {one.target_url}."
        pair = (one.url, one.target_url)
        yield Hit(
            one.url, one.crawlers, message, shown, also=(one.target_url,), severity=mild, advice=advice, pair=pair
        )
