"""Links to other sites that should not pass on weight."""

from __future__ import annotations

from collections.abc import Iterator

from indrel.base.sqltext import quoted
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINK, Change, with_rel
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural, verb
from indrel.core.page.facts import LinkFlag
from indrel.decide.site import Site

HOST_OF = "substr(a.origin, strpos(a.origin, '://') + 3)"


@check(
    "paid-link-followed",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.PARTNERS,),
    feeds=("link",),
    change=Change(LINK, with_rel("sponsored")),
)
def paid_link_followed(site: Site) -> Iterator[Hit]:
    """A link to a partner's host is not marked as paid.

    Why: Links that are paid for must not pass on weight; engines penalise sites that sell links.
    Fix: Add `rel="sponsored"` (or nofollow) to the link.
    Source: Engine practice: paid links have `sponsored` or `nofollow`; the partners that the intent file declares.
    Evidence: The links, and the declaration.
    """
    hosts = " OR ".join(
        f"split_part({HOST_OF}, ':', 1) = {quoted(h)} OR {HOST_OF} = {quoted(h)} "
        f"OR ends_with(split_part({HOST_OF}, ':', 1), {quoted('.' + h)})"
        for h in site.intent.partners
    )
    flags = int(LinkFlag.NOFOLLOW | LinkFlag.SPONSORED)
    yield from _outward(
        site, f"({hosts}) AND l.flags & {flags} = 0", "{0} to {2} {1} neither `sponsored` nor `nofollow`."
    )


@check(
    "user-link-followed",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.USER_PARTS,),
    feeds=("link",),
    change=Change(LINK, with_rel("ugc")),
)
def user_link_followed(site: Site) -> Iterator[Hit]:
    """A link to another site, in a part of the page that visitors write, is followed.

    Why: Anyone who writes there can use the site's reputation; that attracts spam links.
    Fix: In the template, add `rel="ugc"` (or nofollow) to links in that part.
    Source: Engine practice: links that visitors write have `ugc` or `nofollow`; the parts that the intent file declares.
    Evidence: The links.
    """
    flags = int(LinkFlag.NOFOLLOW | LinkFlag.UGC)
    condition = f"NOT a.site AND l.flags & {int(LinkFlag.USER)} > 0 AND l.flags & {flags} = 0"
    yield from _outward(site, condition, "{0} that visitors wrote to {2} {1} neither `ugc` nor `nofollow`.")


def _outward(site: Site, condition: str, message: str) -> Iterator[Hit]:
    """One hit per page for its links to other hosts that meet a condition over `l` (link) and `a` (target)."""
    pages: dict[str, tuple[int, list[str], list[Evidence]]] = {}
    for url, mask, host, line, text, where in site.rows(
        f"""SELECT f.origin || f.path, {site.all_mask} & ~f.barred & ~f.nofollow, {HOST_OF}, l.line, l.text,
            coalesce(n.file, f.origin || f.path)
        FROM link l JOIN address a ON a.id = l.target JOIN fact f ON f.id = l.source JOIN answer n ON n.address = f.id
        WHERE f.site AND f.status < 300 AND {condition} ORDER BY f.origin, f.path, l.line, l.text"""
    ):
        _, hosts, shown = pages.setdefault(url, (mask, [], []))
        hosts.append(host)
        shown.append(Evidence("link", where, line, text))
    for url, (mask, hosts, shown) in pages.items():
        if mask:
            text = message.format(
                plural(len(shown), "link"), verb(len(shown), "has", "have"), listing(list(dict.fromkeys(hosts))[:3])
            )
            yield Hit(url, mask, text, tuple(shown[:5]))
