"""Edits are tried on the facts before they are advised: the rows that they concern are decided again with that fact changed."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from indrel.checks.advice import Advice
from indrel.checks.catalogue import checks
from indrel.checks.causes import Mark
from indrel.checks.changes import Effect
from indrel.checks.evidence import UNWANTED
from indrel.checks.narrowing import changed_by
from indrel.core.model import Cause, Severity, plural, verb
from indrel.decide.site import Site

NO_EDIT = "No single edit found that only does what is intended. The line above decides; read what depends on it first."
MOST_URLS = 2_000
"""URLs of one cause that an edit is tried on: a template's edit does the same on each of its pages."""


def with_proofs(site: Site, causes: list[Cause], groups: Sequence[Sequence[Mark]]) -> list[Cause]:
    """Causes with what their edit does; an edit that does not do what it claims is not advised."""
    found = []
    pages = _decided_again(site, causes, groups)
    known = _matched(
        site, [c for c, members in zip(causes, groups, strict=True) if _effect(c, members[0].advice) is Effect.RULE]
    )
    for number, (cause, members) in enumerate(zip(causes, groups, strict=True)):
        effect = _effect(cause, members[0].advice)
        if effect is Effect.RULE:
            cause = _of_rule(site, cause, known)
        elif effect is not None and number in pages:
            cause = _of_pages(cause, effect, *pages[number])
        elif members[0].advice and members[0].advice.proof:
            cause = replace(cause, proof=members[0].advice.proof)
        found.append(cause)
    return found


def _effect(cause: Cause, advice: Advice | None) -> Effect | None:
    change = advice.change if advice else checks()[cause.check].change
    return change.effect if change and cause.instead and not cause.consequence else None


def _decided_again(
    site: Site, causes: Sequence[Cause], groups: Sequence[Sequence[Mark]]
) -> dict[int, tuple[int, int, int, int]]:
    """By the number of a cause: of its pages how many are known, are open and are hidden once each has lost what leads it
    elsewhere or its noindex, as the edit says, and how many of the ones that then change are wanted otherwise."""
    numbers, urls, opens, owns, hides = [], [], [], [], []
    for number, (cause, members) in enumerate(zip(causes, groups, strict=True)):
        effect = _effect(cause, members[0].advice)
        if effect in (None, Effect.RULE) or cause.severity is Severity.NOTE:
            continue
        for mark in members[:MOST_URLS]:
            numbers.append(number)
            urls.append(mark.address)
            opens.append(effect is Effect.NO_NOINDEX)
            owns.append(effect is Effect.OWN_CANONICAL)
            hides.append(effect is Effect.NOINDEX)
    if not numbers:
        return {}
    every = site.all_mask
    # one edit removes one directive: a page with a second one, such as tag and header, stays hidden
    rows = site.rows(
        f"""WITH told AS (SELECT unnest(?::INTEGER[]) AS number, unnest(?::VARCHAR[]) AS url, unnest(?::BOOLEAN[]) AS opens,
                unnest(?::BOOLEAN[]) AS owns, unnest(?::BOOLEAN[]) AS hides),
            several AS (SELECT d.address FROM directive d WHERE d.void IS NULL AND (d.noindex OR {site.expired_sql})
                GROUP BY d.address HAVING count(DISTINCT d.text) > 1),
            after AS (SELECT t.number, f.want,
                CASE WHEN t.owns AND f.fold_how = 'canonical' AND f.tail = 'folded' THEN '' ELSE f.tail END = ''
                    AND {every} & ~f.barred & ~CASE WHEN t.hides THEN {every} WHEN t.opens AND s.address IS NULL THEN 0
                        ELSE f.noindex END > 0 AS open,
                {every} & ~f.barred > 0 AND f.tail = '' AND t.hides AS hidden
            FROM told t JOIN fact f ON f.origin || f.path = t.url LEFT JOIN several s ON s.address = f.id)
        SELECT number, count(*), count(*) FILTER (open), count(*) FILTER (hidden),
            count(*) FILTER (open AND {UNWANTED} OR hidden AND want = 'show') FROM after GROUP BY number""",
        [numbers, urls, opens, owns, hides],
    )
    return {number: (known, opened, hidden, wrong) for number, known, opened, hidden, wrong in rows}


def _of_pages(cause: Cause, effect: Effect, known: int, opened: int, hidden: int, wrong: int) -> Cause:
    if effect is Effect.UNLISTED:
        entries = plural(cause.count, "entry", "entries")
        return replace(cause, proof=f"this takes {entries} that cannot be indexed out of the sitemap")
    if effect is Effect.NOINDEX:
        does, count = "hidden", hidden
    else:
        does, count = "open", opened
    if wrong or not count:
        return _without_edit(cause)
    tried = min(cause.count, MOST_URLS)
    rest = (
        f"; {plural(tried - count, 'page')} {verb(tried - count, 'needs', 'need')} another edit too"
        if count < tried
        else ""
    )
    page, safe = plural(count, "page"), "" if effect is Effect.NOINDEX else ", and nothing unwanted opens"
    return replace(cause, proof=f"{page} {verb(count, 'becomes', 'become')} {does}{safe}{rest}")


def _lines(cause: Cause) -> tuple[str, ...]:
    """What takes the place of the rule's line."""
    return () if cause.instead.startswith("(") else tuple(cause.instead.split("\n"))


def _prefixes(cause: Cause) -> tuple[str, ...]:
    """What every path begins with that the rule matches before or after its edit."""
    rules = (cause.now, *_lines(cause))
    return tuple(re.split(r"[*$#%]", line.partition(":")[2].strip())[0] or "/" for line in rules)


def _matched(site: Site, causes: Sequence[Cause]) -> dict[str, dict[str, str]]:
    """By host the paths of known URLs that the rules of causes can match, with what is wanted: `show`, `kept` (unwanted, and
    only the rule keeps it out) or nothing."""
    prefixes = sorted({p for cause in causes for p in _prefixes(cause)})
    if not prefixes:
        return {}
    found: dict[str, dict[str, str]] = {}
    for origin, path, want in site.rows(
        f"""SELECT origin, path, CASE WHEN {UNWANTED} AND noindex & {site.all_mask} <> {site.all_mask} AND tail IN ('', 'unread')
            THEN 'kept' WHEN want = 'show' THEN 'show' ELSE '' END FROM fact
        WHERE known AND ({" OR ".join(["starts_with(path, ?)"] * len(prefixes))})""",
        prefixes,
    ):
        found.setdefault(origin, {})[path] = want
    return found


def _of_rule(site: Site, cause: Cause, known: dict[str, dict[str, str]]) -> Cause:
    """The same of a rule of robots.txt: every known URL that it can match is decided again."""
    line = cause.findings[0].evidence[0]
    host = next((h for h in site.robots.values() if line.where in (h.where, h.url)), None)
    if host is None or line.line is None:
        return _without_edit(cause)
    # the same rule may be in the groups of several crawlers: it is one edit in each
    places = [e.line for e in cause.findings[0].evidence if e.where == line.where and e.text == line.text and e.line]
    wants = known.get(host.origin, {})
    opened, shut = changed_by(site, host, places, _lines(cause), list(wants))
    if any(wants[path] == "kept" for path in opened) or any(wants[path] == "show" for path in shut):
        return _without_edit(cause)
    parts = [f"{plural(len(opened), 'known URL')} can be fetched"] if opened else []
    parts += (
        [f"{plural(len(shut), 'known URL')} {verb(len(shut))} blocked, none of which you want shown"] if shut else []
    )
    return replace(cause, proof=" and ".join(parts) if parts else "no known URL changes its state")


def _without_edit(cause: Cause) -> Cause:
    return replace(cause, now="", instead="", mend=f"{NO_EDIT} {cause.mend}")
