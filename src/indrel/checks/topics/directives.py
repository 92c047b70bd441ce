"""Directives on pages: robots tags and X-Robots-Tag headers."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import NO_NOINDEX, SAID, Change, each
from indrel.checks.evidence import WHERE, Subject, directives, said
from indrel.checks.measures import MANY, NEARLY_ALL
from indrel.core.address import origin_of
from indrel.core.model import CheckClass, Evidence, Severity, listing
from indrel.core.page.tokens import OBSOLETE, slips
from indrel.decide.predicates import EMBEDDED, OBSOLETE_TOKEN
from indrel.decide.site import Site, once


class Said(NamedTuple):
    """One tag or header stretch as the checks of this topic read it."""

    address: int
    url: str
    header: bool
    scope: str
    mask: int
    tokens: tuple[str, ...]
    evidence: Evidence


def all_said(site: Site, condition: str) -> Iterator[Said]:
    """Directives with effect that meet an SQL condition, in the order of pages."""
    for address, url, origin, scope, mask, tokens, line, text, where in site.rows(
        f"""SELECT d.address, a.origin || a.path, d.origin, d.scope, s.mask, d.tokens, d.line, d.text, {WHERE}
        FROM directive d JOIN scope s ON s.name = d.scope JOIN address a ON a.id = d.address
        JOIN answer n ON n.address = d.address
        WHERE d.void IS NULL AND a.site AND n.status < 300 AND ({condition})
        ORDER BY d.address, d.origin, d.line, d.text"""
    ):
        evidence = Evidence("header" if origin else "tag", where, line, text)
        yield Said(address, url, bool(origin), scope, mask, tuple(tokens), evidence)


class WholeHost(NamedTuple):
    """A noindex on a whole host: the crawlers told, what the start page says, and whether nearly all pages say it so."""

    mask: int
    evidence: Evidence
    same: bool


WholeHosts = dict[tuple[str, str], WholeHost]


@once
def hidden_hosts(site: Site) -> WholeHosts:
    """Per origin and source (tag, header) the noindex on the start page, where nearly all pages say it through the same source."""
    found: WholeHosts = {}
    for origin, start in site.fronts.items():
        if site.is_closed(origin):
            continue
        number = site.id_of(start)
        shown = directives(site, [number]).get(number, []) if number is not None else []
        if not shown:
            continue
        pages = int(
            site.one(
                "SELECT count(*) FROM fact WHERE origin = ? AND read AND status < 300 AND (html OR noindex > 0)",
                [origin],
            )
        )
        for mask, evidence in shown:
            saying, same = site.rows(
                f"""SELECT count(DISTINCT d.address), count(DISTINCT d.address) FILTER (d.text = ?)
                FROM directive d JOIN fact f ON f.id = d.address JOIN scope s ON s.name = d.scope WHERE f.origin = ?
                AND f.status < 300 AND d.noindex AND d.void IS NULL AND d.origin = ? AND s.mask & {mask} = {mask}""",
                [evidence.text, origin, int(evidence.kind == "header")],
            )[0]
            if saying >= NEARLY_ALL * pages and (site.complete or pages >= MANY):
                before = found.get((origin, evidence.kind))
                found[origin, evidence.kind] = WholeHost(
                    mask | (before.mask if before else 0),
                    before.evidence if before else evidence,
                    same >= NEARLY_ALL * pages,
                )
    return found


@check(
    "site-noindex",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.NOTHING,
    whole_host=True,
    feeds=("noindex",),
    change=NO_NOINDEX,
)
def site_noindex(site: Site) -> Iterator[Hit]:
    """The start page and nearly all pages say noindex through the same source: their tags, or the header.

    Why: The whole site drops out of the listings. Most often it is a switch left from the time when it was built.
    Mend: Turn off the setting or take out the line of template or server configuration that sends it to every page.
    Rests on: The robots meta tag and X-Robots-Tag as search engines document them: noindex keeps a page from being listed.
    Evidence: The tag or header on the start page.
    """
    for (origin, _), (mask, evidence, same) in hidden_hosts(site).items():
        what = f"{code(evidence.text)}" if same else f"noindex, the start page as {code(evidence.text)}"
        yield Hit(site.starts[origin], mask, f"the start page and nearly all pages of {origin} say {what}", (evidence,))


def without_hidden_host(told: WholeHosts, url: str, evidence: tuple[Evidence, ...], mask: int) -> int:
    """A mask without the crawlers for which `site-noindex` has told the cause."""
    for one in evidence:
        known = told.get((origin_of(url), one.kind))
        if known:
            mask &= ~known.mask
    return mask


@check(
    "noindex-partial",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("noindex",),
)
def noindex_partial(site: Site) -> Iterator[Hit]:
    """A noindex reaches only some of the crawlers.

    Why: The page leaves the listings of one engine and stays in those of another, which is seldom meant.
    Mend: Say noindex in `<meta name="robots">` or an unscoped header if all are meant; else keep it and accept the finding.
    Rests on: A tag named for a crawler, or a scoped header, holds for that crawler and its family alone.
    Evidence: The tag or header, and the crawlers it holds for.
    """
    found = site.named(
        Subject,
        f"SELECT id, origin || path, noindex FROM fact WHERE site AND status < 300 AND noindex > 0 "
        f"AND noindex <> {site.all_mask} ORDER BY origin, path",
    )
    tags = said(site, [one.id for one in found], site.all_mask)
    for one in found:
        others = listing(site.names(site.all_mask & ~one.crawlers), "or")
        message = f"noindex for {listing(site.names(one.crawlers))}, but not for {others}"
        yield Hit(one.url, one.crawlers, message, tags.get(one.id, ()))


_OPPOSITES = (("index", "noindex"), ("follow", "nofollow"))


def sides(tokens: tuple[str, ...]) -> dict[str, str]:
    """What a directive says of each thing that can be said both ways."""
    said_of: dict[str, str] = {}
    plain = set(tokens)
    if "none" in plain:
        plain |= {"noindex", "nofollow"}
    if "all" in plain:
        plain |= {"index", "follow"}
    for yes, no in _OPPOSITES:
        if no in plain:
            said_of[yes] = no
        elif yes in plain:
            said_of[yes] = yes
    for token in tokens:
        name, colon, value = token.partition(":")
        if colon:
            said_of[name] = f"{name}:{value}"
    return said_of


@check(
    "robots-sources-differ", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("several-directives",)
)
def robots_sources_differ(site: Site) -> Iterator[Hit]:
    """Two robots tags or headers of one page say opposite things to the same crawler.

    Why: The stricter one holds, which may not be the one that was edited last.
    Mend: Keep one source (tag or header) and take the other out.
    Rests on: Directives add up, and the most restrictive wins (engine practice).
    Evidence: Both sources.
    """
    several = "d.address IN (SELECT address FROM directive WHERE void IS NULL GROUP BY address HAVING count(*) > 1)"
    pages: dict[int, list[Said]] = {}
    for one in all_said(site, several):
        pages.setdefault(one.address, []).append(one)
    for members in pages.values():
        yield from _differing(members)


def _differing(members: list[Said]) -> Iterator[Hit]:
    mask = 0
    words: list[str] = []
    shown: dict[Evidence, None] = {}
    for i, one in enumerate(members):
        for other in members[i + 1 :]:
            both = one.mask & other.mask
            ours, theirs = sides(one.tokens), sides(other.tokens)
            differ = [n for n in ours if n in theirs and ours[n] != theirs[n]]
            if both and differ:
                mask |= both
                words += [f"{ours[n]} and {theirs[n]}" for n in differ]
                shown |= {one.evidence: None, other.evidence: None}
    if mask:
        message = f"says {listing(list(dict.fromkeys(words)))} from different sources: the stricter holds"
        yield Hit(members[0].url, mask, message, tuple(shown))


@check("robots-self-contradicts", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("several-tokens",))
def robots_self_contradicts(site: Site) -> Iterator[Hit]:
    """One robots tag or header says both a thing and its opposite.

    Why: The stricter half holds; the other half shows that something else was meant.
    Mend: Leave only the tokens that are meant.
    Rests on: Directives add up, and the most restrictive wins (engine practice).
    Evidence: The tag or header.
    """
    for one in all_said(site, "len(d.tokens) > 1"):
        tokens = set(one.tokens)
        full = tokens | ({"noindex", "nofollow"} if "none" in tokens else set())
        full |= {"index", "follow"} if "all" in tokens else set()
        both = [f"{yes} and {no}" for yes, no in _OPPOSITES if yes in full and no in full]
        if both:
            yield Hit(one.url, one.mask, f"one source says {listing(both)}: the stricter holds", (one.evidence,))


@check("robots-tag-in-body", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, feeds=("directive-in-body",))
def robots_tag_in_body(site: Site) -> Iterator[Hit]:
    """A robots tag stands after the head has ended.

    Why: It belongs in the head; large engines read it in the body all the same, others need not.
    Mend: Move the tag up, above what ended the head (an element that may not stand there ends it, without notice).
    Rests on: WHATWG HTML, the "in head" insertion mode; that the tag still counts is engine practice.
    Evidence: The tag, and what ended the head.
    """
    for url, line, text, mask, head_end, head_line, where in site.rows(
        f"""SELECT a.origin || a.path, d.line, d.text, s.mask, p.head_end, p.head_end_line, {WHERE}
        FROM directive d JOIN scope s ON s.name = d.scope JOIN address a ON a.id = d.address
        JOIN answer n ON n.address = d.address JOIN page p ON p.address = d.address
        WHERE d.in_body AND d.void IS NULL AND a.site ORDER BY a.origin, a.path, d.line, d.text"""
    ):
        evidence = [Evidence("tag", where, line, text)]
        if head_end:
            evidence.append(Evidence("head-end", where, head_line, head_end))
        at = f" (line {head_line})" if head_line else ""
        ended = f"{code(head_end)}{at} ended the head before it" if head_end else "the head had ended before it"
        yield Hit(url, mask, f"the robots tag stands in the body: {ended}", tuple(evidence))


def faulty(site: Site, origin: int) -> Iterator[tuple[str, int, str, Evidence]]:
    """Tags (0) or headers (1) with tokens that have no effect: page, crawlers, what is wrong, evidence."""
    for url, line, text, mask, texts, faults, where in site.rows(
        f"""SELECT a.origin || a.path, d.line, d.text, s.mask, d.fault_texts, d.faults, {WHERE}
        FROM directive d LEFT JOIN scope s ON s.name = d.scope JOIN address a ON a.id = d.address
        JOIN answer n ON n.address = d.address
        WHERE len(d.faults) > 0 AND d.origin = {origin} AND a.site AND n.status < 300 ORDER BY a.origin, a.path, d.line, d.text"""
    ):
        what = "; ".join(f"{code(t)}: {f}" for t, f in zip(texts, faults, strict=True))
        yield (
            url,
            site.all_mask if mask is None else mask,
            what,
            Evidence("header" if origin else "tag", where, line, text),
        )


@check(
    "robots-token-slip",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("faulty-directive",),
    change=Change(SAID, each("content", slips)),
)
def robots_token_slip(site: Site) -> Iterator[Hit]:
    """A robots tag holds a token that no crawler knows.

    Why: The token has no effect, so what it was to prevent happens.
    Mend: Spell the tokens as the message says, separated by commas.
    Rests on: The robots meta tag as search engines document it: unknown tokens are ignored.
    Evidence: The tag.
    """
    for url, mask, what, evidence in faulty(site, 0):
        yield Hit(url, mask, what, (evidence,))


@check(
    "robots-header-slip",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.LIVE,),
    feeds=("faulty-directive",),
)
def robots_header_slip(site: Site) -> Iterator[Hit]:
    """An X-Robots-Tag header holds a token, scope or date that cannot be read.

    Why: The token has no effect, so what it was to prevent happens.
    Mend: Spell the tokens as the message says, separated by commas; dates as `25 Jun 2027 15:00:00 GMT`.
    Rests on: X-Robots-Tag as search engines document it: unknown tokens are ignored.
    Evidence: The header.
    """
    for url, mask, what, evidence in faulty(site, 1):
        yield Hit(url, mask, what, (evidence,))


@check(
    "robots-tag-void",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("void-directive",),
    change=Change(("tag",), lambda finding, before: re.sub(r"\bproperty\s*=", "name=", before, count=1)),
)
def robots_tag_void(site: Site) -> Iterator[Hit]:
    """A robots tag has no effect: no content, a wrong attribute, or the http-equiv form.

    Why: What the tag was to say is not said, so the page is treated as if it were not there.
    Mend: Write it as `<meta name="robots" content="noindex">`.
    Rests on: The robots meta tag as search engines document it; `http-equiv` for X-Robots-Tag is in no standard.
    Evidence: The tag.
    """
    for url, void, line, text, barred, where in site.rows(
        f"""SELECT a.origin || a.path, d.void, d.line, d.text, a.barred, {WHERE} FROM directive d
        JOIN fact a ON a.id = d.address JOIN answer n ON n.address = d.address
        WHERE d.void IS NOT NULL AND a.site AND n.status < 300 ORDER BY a.origin, a.path, d.line, d.text"""
    ):
        mask = site.all_mask & ~barred
        if mask:
            yield Hit(url, mask, f"the robots tag has no effect: {void}", (Evidence("tag", where, line, text),))


@check("robots-token-obsolete", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("obsolete-token",))
def robots_token_obsolete(site: Site) -> Iterator[Hit]:
    """A robots tag or header holds a token that no large engine reads any more.

    Why: It does no harm, but who reads it may believe that it does something.
    Mend: Take the token out.
    Rests on: The robots meta tag as search engines document it today.
    Evidence: The tag or header.
    """
    for one in all_said(site, OBSOLETE_TOKEN):
        told = [f"{code(t)}" for t in one.tokens if t in OBSOLETE]
        are = "is" if len(told) == 1 else "are"
        yield Hit(one.url, one.mask, f"{listing(told)} {are} not read by any large engine any more", (one.evidence,))


@check("embed-without-noindex", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("embedded-token",))
def embed_without_noindex(site: Site) -> Iterator[Hit]:
    """A page says indexifembedded, but not noindex.

    Why: The token lifts a noindex where the page is embedded elsewhere; without a noindex it does nothing.
    Mend: Say `noindex, indexifembedded` if the page is to be listed only where it is embedded; else take the token out.
    Rests on: The robots meta tag as search engines document it.
    Evidence: The tag or header.
    """
    noindex = dict(site.rows("SELECT id, noindex FROM fact WHERE noindex > 0"))
    for one in all_said(site, EMBEDDED):
        mask = one.mask & ~noindex.get(one.address, 0)
        if mask:
            yield Hit(one.url, mask, "says indexifembedded without noindex: it does nothing", (one.evidence,))
