"""Sections that are kept out of the index as a whole, though nothing states that they should be."""

from __future__ import annotations

from collections.abc import Iterator

from indrel.base.plain import code
from indrel.base.sqltext import quoted_list
from indrel.checks.advice import Advice
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.evidence import expired, rules, said
from indrel.checks.measures import A_SECTION
from indrel.core.model import CheckClass, Severity, plural
from indrel.decide.kinds import ARCHIVES, PRIVATE
from indrel.decide.place import placed
from indrel.decide.site import Site

MOST_ALSO = 20
"""URLs that the finding names."""

INTENDED = Advice(
    'If it should be indexed, remove what keeps it out. If not, state so in the intent file (want = "hide"), and it is not asked again.',
    key="section",
)


@check(
    "section-kept-out",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.RULE,
    needs=(Need.PAGES,),
)
def section_kept_out(site: Site) -> Iterator[Hit]:
    """All pages of a section are kept out of the index.

    Why: No sitemap lists these pages and nothing states what you want, so only you know whether a date, a template or a rule went too far.
    Fix: Remove what keeps the pages out, or state in the intent file that you want them hidden.
    Source: RFC 9309 section 2.2.2; the robots meta tag and X-Robots-Tag as search engines document them.
    Evidence: What keeps the first page out.
    """
    placed(site)
    every = site.all_mask
    sections = site.rows(
        f"""SELECT p.section, count(*), bool_and(f.barred = {every}) AS barred,
            list(f.origin || f.path ORDER BY f.path)[:{MOST_ALSO}]
        FROM fact f JOIN place p ON p.address = f.id
        WHERE f.known AND f.site AND NOT f.closed AND p.section <> '/*' AND NOT contains(f.path, '?')
            AND (f.html OR NOT f.read) AND f.tail IN ('', 'unread')
        GROUP BY p.section
        HAVING count(*) >= {A_SECTION} AND (bool_and(f.barred = {every}) OR bool_and(f.html AND f.noindex = {every} AND f.barred = 0))
            AND bool_and(f.want = 'any' AND f.entry IS NULL AND f.followed > 0 AND f.kind NOT IN ({quoted_list(ARCHIVES)})
                AND NOT regexp_matches(lower(f.path), '{PRIVATE}'))
        ORDER BY count(*) DESC, p.section"""
    )
    for section, count, is_barred, (url, *also) in sections:
        number = site.id_of(url)
        if number is None:
            continue
        evidence = rules(site, url, every) if is_barred else said(site, [number], every).get(number, ())
        if not evidence:
            continue
        has = (
            "are blocked by robots.txt"
            if is_barred
            else "have a date that has passed"
            if number in expired(site, [number])
            else "have noindex"
        )
        message = f"All {plural(count, 'page')} of {code(section)} {has}. Nothing states whether you want them shown."
        yield Hit(
            url,
            every,
            message,
            evidence,
            tuple(also),
            implied=True,
            advice=INTENDED,
            place=("section", section),
            pages=count,
        )
