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
from indrel.core.address import origin_of, split
from indrel.core.model import CheckClass, Evidence, Severity, State, listing
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
    """A noindex on a whole host: the crawlers, the line on the home page, and whether nearly all pages have the same text."""

    mask: int
    evidence: Evidence
    same: bool


WholeHosts = dict[tuple[str, str], WholeHost]


@once
def hidden_hosts(site: Site) -> WholeHosts:
    """Per origin and source (tag, header) the noindex on the home page, if nearly all pages have one from the same source."""
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
    reports=State.HIDDEN,
    feeds=("noindex",),
    change=NO_NOINDEX,
)
def site_noindex(site: Site) -> Iterator[Hit]:
    """The home page and nearly all pages have noindex from the same source (tag or header).

    Why: The whole site drops out of the index. Most often a setting was left on when the site went live.
    Fix: Turn off the setting, or remove the line of the template or server configuration that adds it to every page.
    Source: The robots meta tag and X-Robots-Tag as search engines document them: noindex keeps a page out of the index.
    Evidence: The tag or header on the home page.
    """
    for (origin, _), (mask, evidence, same) in hidden_hosts(site).items():
        what = f"{code(evidence.text)}" if same else f"noindex, the home page as {code(evidence.text)}"
        message = f"The home page and nearly all pages of {split(origin + '/').host} have {what}."
        yield Hit(site.starts[origin], mask, message, (evidence,))


def without_hidden_host(told: WholeHosts, url: str, evidence: tuple[Evidence, ...], mask: int) -> int:
    """A mask without the crawlers for which `site-noindex` reports the cause."""
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
    """noindex applies to only some of the audited crawlers.

    Why: The page leaves the index of one engine and stays in that of another, which is rarely intended.
    Fix: If you mean all crawlers, use `<meta name="robots">` or a header without a crawler name. Otherwise accept the finding.
    Source: A tag or header that names a crawler applies only to that crawler and its family.
    Evidence: The tag or header, and the crawlers that it applies to.
    """
    found = site.named(
        Subject,
        f"SELECT id, origin || path, noindex FROM fact WHERE site AND status < 300 AND noindex > 0 "
        f"AND noindex <> {site.all_mask} ORDER BY origin, path",
    )
    tags = said(site, [one.id for one in found], site.all_mask)
    for one in found:
        others = listing(site.names(site.all_mask & ~one.crawlers), "or")
        message = f"The page has noindex for {listing(site.names(one.crawlers))}, but not for {others}."
        yield Hit(one.url, one.crawlers, message, tags.get(one.id, ()))


_OPPOSITES = (("index", "noindex"), ("follow", "nofollow"))


def sides(tokens: tuple[str, ...]) -> dict[str, str]:
    """The side that a directive takes on each thing that has two."""
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
    """Two robots tags or headers of a page contradict each other for the same crawler.

    Why: The stricter one applies, and that may not be the one that was edited last.
    Fix: Keep one source (tag or header) and remove the other.
    Source: Directives add up, and the most restrictive wins (engine practice).
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
        message = (
            f"Sources of the page contradict each other ({', '.join(dict.fromkeys(words))}): the stricter one applies."
        )
        yield Hit(members[0].url, mask, message, tuple(shown))


@check("robots-self-contradicts", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("several-tokens",))
def robots_self_contradicts(site: Site) -> Iterator[Hit]:
    """One robots tag or header contains contradicting tokens.

    Why: The stricter token applies; the other one shows that something else may be intended.
    Fix: Keep only the tokens that you mean.
    Source: Directives add up, and the most restrictive wins (engine practice).
    Evidence: The tag or header.
    """
    for one in all_said(site, "len(d.tokens) > 1"):
        tokens = set(one.tokens)
        full = tokens | ({"noindex", "nofollow"} if "none" in tokens else set())
        full |= {"index", "follow"} if "all" in tokens else set()
        both = [f"{yes} and {no}" for yes, no in _OPPOSITES if yes in full and no in full]
        if both:
            yield Hit(
                one.url,
                one.mask,
                f"One tag or header contains {listing(both)}: the stricter one applies.",
                (one.evidence,),
            )


@check("robots-tag-in-body", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, feeds=("directive-in-body",))
def robots_tag_in_body(site: Site) -> Iterator[Hit]:
    """The robots tag comes after the end of the head.

    Why: It belongs in the head. Large engines also read it in the body; others may not.
    Fix: Move the tag above the element that ended the head. An element that is not allowed in the head ends it silently.
    Source: WHATWG HTML, the "in head" insertion mode; that the tag still counts is engine practice.
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
        yield Hit(url, mask, f"The robots tag is in the body: {ended}.", tuple(evidence))


def faulty(site: Site, origin: int) -> Iterator[tuple[str, int, str, Evidence]]:
    """Tags (0) or headers (1) with tokens that have no effect: page, crawlers, what is wrong, evidence."""
    for url, line, text, mask, texts, faults, where in site.rows(
        f"""SELECT a.origin || a.path, d.line, d.text, s.mask, d.fault_texts, d.faults, {WHERE}
        FROM directive d LEFT JOIN scope s ON s.name = d.scope JOIN address a ON a.id = d.address
        JOIN answer n ON n.address = d.address
        WHERE len(d.faults) > 0 AND d.origin = {origin} AND a.site AND n.status < 300 ORDER BY a.origin, a.path, d.line, d.text"""
    ):
        what = "; ".join(f"{code(t)} has no effect: {f}" for t, f in zip(texts, faults, strict=True)) + "."
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
    """A robots tag has a token that no crawler knows.

    Why: The token has no effect, so it does not prevent anything.
    Fix: Spell the tokens as the message shows, separated by commas.
    Source: The robots meta tag as search engines document it: unknown tokens are ignored.
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
    """An X-Robots-Tag header has a token, scope or date that cannot be read.

    Why: The token has no effect, so it does not prevent anything.
    Fix: Spell the tokens as the message shows, separated by commas. Write dates as `25 Jun 2027 15:00:00 GMT`.
    Source: X-Robots-Tag as search engines document it: unknown tokens are ignored.
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
    """A robots tag is void: it has no content, a wrong attribute, or the http-equiv form.

    Why: The tag has no effect: engines treat the page as if it had no tag.
    Fix: Write it as `<meta name="robots" content="noindex">`.
    Source: The robots meta tag as search engines document it; `http-equiv` for X-Robots-Tag is not in any standard.
    Evidence: The tag.
    """
    for url, void, line, text, barred, where in site.rows(
        f"""SELECT a.origin || a.path, d.void, d.line, d.text, a.barred, {WHERE} FROM directive d
        JOIN fact a ON a.id = d.address JOIN answer n ON n.address = d.address
        WHERE d.void IS NOT NULL AND a.site AND n.status < 300 ORDER BY a.origin, a.path, d.line, d.text"""
    ):
        mask = site.all_mask & ~barred
        if mask:
            yield Hit(url, mask, f"The robots tag has no effect: {void}.", (Evidence("tag", where, line, text),))


@check("robots-token-obsolete", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("obsolete-token",))
def robots_token_obsolete(site: Site) -> Iterator[Hit]:
    """A robots tag or header has a token that no large engine reads any more.

    Why: It does no harm, but readers may believe that it has an effect.
    Fix: Remove the token.
    Source: The robots meta tag as search engines document it today.
    Evidence: The tag or header.
    """
    for one in all_said(site, OBSOLETE_TOKEN):
        told = [f"{code(t)}" for t in one.tokens if t in OBSOLETE]
        are = "is" if len(told) == 1 else "are"
        yield Hit(one.url, one.mask, f"{listing(told)} {are} no longer read by any large engine.", (one.evidence,))


@check("embed-without-noindex", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("embedded-token",))
def embed_without_noindex(site: Site) -> Iterator[Hit]:
    """A page has indexifembedded without noindex.

    Why: The token lifts a noindex where the page is embedded elsewhere; without a noindex it does nothing.
    Fix: If the page should be indexed only where it is embedded, write `noindex, indexifembedded`. Otherwise remove the token.
    Source: The robots meta tag as search engines document it.
    Evidence: The tag or header.
    """
    noindex = dict(site.rows("SELECT id, noindex FROM fact WHERE noindex > 0"))
    for one in all_said(site, EMBEDDED):
        mask = one.mask & ~noindex.get(one.address, 0)
        if mask:
            yield Hit(
                one.url,
                mask,
                "The page has indexifembedded without noindex, so the token does nothing.",
                (one.evidence,),
            )
