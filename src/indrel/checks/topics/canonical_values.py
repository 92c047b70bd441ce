"""Canonicals as written: values that cannot be used, that are bent, or that name another site or host."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, check
from indrel.checks.changes import NAMED, NAMES_ITSELF, Change
from indrel.checks.evidence import WHERE, answers, canonicals, stated
from indrel.checks.topics.canonical import ABSOLUTE, OFTEN, SEVERAL, special, stage_special
from indrel.core.address import site_key, split
from indrel.core.model import CheckClass, Evidence, Severity
from indrel.decide.predicates import CANONICAL_COUNTS
from indrel.decide.site import Site

NOBODY = ("localhost", "local", "internal", "invalid")
"""Top levels of names that no visitor reaches (RFC 6761, RFC 6762)."""

PLACEHOLDERS = ("example.com", "example.net", "example.org")
"""Names that documentation uses (RFC 2606): a canonical there was never filled in."""


@check(
    "canonical-unusable",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("unusable-canonical",),
    change=NAMES_ITSELF,
)
def canonical_unusable(site: Site) -> Iterator[Hit]:
    """A canonical cannot be used: empty, no address, or cancelled by an attribute.

    Why: Engines ignore it and choose themselves which address stands for the page.
    Mend: Write it as `<link rel="canonical" href="https://...">`, with no hreflang, lang, media or type.
    Rests on: RFC 6596; that those attributes cancel it is engine practice.
    Evidence: The tag or header.
    """
    for url, mask, fault, origin, line, text, where in site.rows(
        f"""SELECT a.origin || a.path, {site.all_mask} & ~a.barred, c.fault, c.origin, c.line, c.text, {WHERE} FROM canonical c
        JOIN fact a ON a.id = c.address JOIN answer n ON n.address = c.address
        WHERE c.fault IS NOT NULL AND NOT c.in_body AND a.site AND a.status < 300 AND NOT {LOCAL_FILE}
        AND c.address NOT IN (SELECT c.address FROM canonical c WHERE {CANONICAL_COUNTS} AND {OFTEN}
            GROUP BY c.address HAVING {SEVERAL})
        ORDER BY a.origin, a.path, c.origin, c.line"""
    ):
        if mask:
            shown = Evidence("header" if origin else "canonical", where, line, text)
            yield Hit(url, mask, f"the canonical cannot be used: {fault}", (shown,))


LOCAL_FILE = "starts_with(lower(trim(c.href)), 'file:')"


@check(
    "canonical-relative",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    feeds=("relative-canonical",),
    change=NAMES_ITSELF,
)
def canonical_relative(site: Site) -> Iterator[Hit]:
    """A canonical is written as a relative address.

    Why: A base tag, another folder or a copied template bends it, and the page names something that is not there.
    Mend: Write the whole address, with scheme and host.
    Rests on: RFC 6596 section 3: relative values are allowed, absolute ones preferred; resolved against the base.
    Evidence: The canonical; the address that it comes to.
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
            message = f"{code(href)} comes to {target_url}, which is not open"
            yield Hit(url, mask & crawlers, message, shown, also=(target_url,), severity=Severity.FIX)
        elif mask:
            also = () if target_url == url else (target_url,)
            yield Hit(url, mask, f"the canonical is relative: {code(href)} comes to {target_url}", shown, also=also)


@check(
    "canonical-fragment",
    CheckClass.FLAW,
    Severity.NOTE,
    follows=Follows.NOTHING,
    feeds=("canonical-fragment",),
    change=Change(NAMED, lambda finding, before: re.sub(r"#[^\"'\s>]*", "", before)),
)
def canonical_fragment(site: Site) -> Iterator[Hit]:
    """A canonical has a fragment.

    Why: What follows `#` is not part of the address that is fetched: engines drop it.
    Mend: Take the fragment out.
    Rests on: RFC 9110 section 7.1: fragments are not sent; that engines drop them is engine practice.
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
            yield Hit(url, mask, "the canonical has a fragment, which engines drop", (shown,))


class _Elsewhere(NamedTuple):
    """A page that names an address of another origin as canonical, and whether that origin's host is declared closed."""

    id: int
    url: str
    crawlers: int
    target_url: str
    closed: bool

    @property
    def host(self) -> str:
        return split(self.target_url).host


class _Wanted(NamedTuple):
    """A page that is to be shown, by which entry, and what it folds into: as its canonical, or by a redirect."""

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
    follows=Follows.NOTHING,
    feeds=("canonical",),
    change=NAMES_ITSELF,
)
def canonical_to_closed_host(site: Site) -> Iterator[Hit]:
    """A page names as canonical an address on a host that is closed, or that no visitor reaches.

    Why: The page gives way to an address that no one can open; often the staging or build address was never replaced.
    Mend: Set the site's public address in the template or generator, and build again.
    Rests on: RFC 6596 section 5; RFC 6761 and RFC 1918 for names and numbers that are nobody's.
    Evidence: The canonical, and the intent's declaration where it is one.
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
        what = "a host that is declared closed" if one.closed else "a host that no visitor reaches"
        if one.crawlers:
            message = f"names a canonical on {what}: {one.target_url}"
            yield Hit(one.url, one.crawlers, message, tuple(shown), also=(one.target_url,))
    for url, mask, href, line, text, where in site.rows(
        f"""SELECT a.origin || a.path, {site.all_mask} & ~a.barred, c.href, c.line, c.text, {WHERE} FROM canonical c
        JOIN fact a ON a.id = c.address JOIN answer n ON n.address = c.address
        WHERE {LOCAL_FILE} AND NOT c.in_body AND a.site AND a.status < 300 ORDER BY a.origin, a.path, c.line"""
    ):
        if mask:
            yield Hit(url, mask, f"names a file on someone's own machine as canonical: {href}",
                      (Evidence("canonical", where, line, text),))  # fmt: skip


@check("canonical-off-site", CheckClass.BLOCKED, Severity.ASK, follows=Follows.SHUT_HOST, feeds=("canonical-fold",))
def canonical_off_site(site: Site) -> Iterator[Hit]:
    """A page names as canonical an address on another site.

    Why: The page asks to be left out in favour of the other site; right for a reprint, ruinous for a copied template.
    Mend: Name the page itself, unless the other site really is where it belongs.
    Rests on: RFC 6596: the canonical may stand on another host; the page then folds into it.
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
    for one in chosen:
        if one.crawlers:
            message, shown = f"names a canonical on another site: {one.target_url}", tuple(tags.get(one.id, ()))
            yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url,))


@check(
    "canonical-host-variant",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("canonical-fold",),
    change=NAMES_ITSELF,
)
def canonical_host_variant(site: Site) -> Iterator[Hit]:
    """A canonical differs from the page's own address only in scheme, www or port.

    Why: The page says that it belongs elsewhere, while links and sitemaps use the address that served it.
    Mend: Decide for one form, redirect the others to it, and name that one everywhere.
    Rests on: RFC 3986 section 6.2.3: these are different addresses, however alike they look.
    Evidence: The canonical.
    """
    found = special(site, "variant")
    tags = canonicals(site, [one.id for one in found])
    for one in found:
        message = f"names itself under another form: {one.target_url}"
        yield Hit(one.url, one.crawlers, message, tuple(tags.get(one.id, ())), also=(one.target_url,))


@check(
    "canonical-wanted-folded",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("fold", "stated"),
    change=NAMES_ITSELF,
)
def canonical_wanted_folded(site: Site) -> Iterator[Hit]:
    """A page that the intent file wants shown names another as canonical, or redirects to it.

    Why: The page gives way to the other one and is not listed itself. Where a pattern reaches an address that redirects,
    only a person can say whether that address is meant.
    Mend: Let the page name itself, or change the want.
    Rests on: RFC 6596; RFC 9110 section 15.4; the want that the intent file states.
    Evidence: The canonical, or the answer and where it leads; and the intent's entry.
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
        does = "names another canonical:" if one.names_it else "redirects to"
        shown = (*(tags.get(one.id, ()) if one.names_it else leads[one.id]), *stated(site, one.entry))
        mild = None if one.names_it or entry.names_one else Severity.ASK
        mend = (
            "" if one.names_it else "Answer with the page itself; or give addresses that redirect another want (`any`)."
        )
        message = f"is to be shown, but {does} {one.target_url}"
        yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url,), severity=mild, mend=mend)
