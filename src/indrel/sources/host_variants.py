"""Where a site stands: of the variants of its host (https, www) the one that the address which was named redirects to."""

from __future__ import annotations

from typing import TYPE_CHECKING

from indrel.core.address import origin_of, site_key, split, variants
from indrel.core.page.facts import header_canonicals, header_directives
from indrel.core.page.headers import content_type, is_html
from indrel.core.page.html import read_page
from indrel.gather.parsing import MAX_PAGE

if TYPE_CHECKING:
    from indrel.gather.answers import Answer
    from indrel.sources.site import LiveSite


async def settle(site: LiveSite) -> None:
    """Find the variant that the site stands at, and try the others once: robots.txt and start page; silence is no finding."""
    been = {site.start}
    while there := await _leads_to(site):
        if there in been:
            break  # in a circle, as browsers find out too
        been.add(there)
        await _move(site, there)
    for url in variants(site.start):
        if site.recorder.id(url) in site.frontier.seen:
            continue
        if not site.fetcher.serves(url):
            continue
        parts = split(url)
        await site.learn_robots(parts.origin, "variant", silent=True)
        if parts.origin not in site.gate:
            continue
        site.recorder.writer.add("given", [(site.recorder.id(url), "variant")])
        if site.gate.allows(parts.origin, parts.path):
            answer = await site.fetcher.get(url, MAX_PAGE, tries=1)
            if answer.status is not None:
                site.keep_aside(answer)
                _keep_home(site, answer)


def _keep_home(site: LiveSite, answer: Answer) -> None:
    """What the home page of a variant says, beside the pages of the site: whether it is the same page, and names another."""
    media, charset = content_type(answer.header("content-type"))
    if answer.status != 200 or not is_html(media):
        return
    facts = read_page(answer.body, answer.url, charset, site.joiner)
    robots, links = (list(answer.headers.get(name, ())) for name in ("x-robots-tag", "link"))
    canonicals = [*facts.canonicals, *header_canonicals(links, answer.url)]
    home = {
        "url": answer.url, "title": facts.title, "heading": facts.heading, "text_hash": facts.text_hash,
        "words": facts.own_words, "canonicals": [one.url for one in canonicals if one.url and not one.in_body],
        "noindex": any(d.tokens.noindex for d in [*facts.directives, *header_directives(robots)]),
    }  # fmt: skip
    homes = site.recorder.writer.meta.get("variant_homes") or []
    site.recorder.writer.set_meta(variant_homes=[*homes, home])


async def _leads_to(site: LiveSite) -> str | None:
    """The start page's address at the variant that it redirects to; what it answers is kept for the crawl."""
    parts, others = split(site.start), variants(site.start)
    if not others or not site.gate.allows(parts.origin, parts.path):
        return None
    answer = site.ahead[site.start] = await site.fetcher.get(site.start, MAX_PAGE, bodies=False)
    origin = origin_of(answer.target) if answer.target else ""
    return origin + parts.path if f"{origin}/" in others else None


async def _move(site: LiveSite, there: str) -> None:
    """Take that for the start page, as every visitor does; the one that was named is a variant."""
    named, recorder, writer = site.start, site.recorder, site.recorder.writer
    site.move(there)
    writer.add("given", [(recorder.id(named), "variant")])
    site.keep_aside(site.ahead.pop(named))
    recorder.commit(force=True)
    recorder.move(recorder.hosts - {site_key(named)} | {site_key(there)})
    writer.con.execute("UPDATE robots SET role = 'variant' WHERE origin = ?", [origin_of(named)])
    for origin in (origin_of(named), origin_of(there)):
        writer.con.execute("UPDATE address SET site = ? WHERE origin = ?", [recorder.on_site(f"{origin}/"), origin])
    note = f"{writer.meta['source']['location']} redirects to {there}, which was audited"
    writer.set_meta(base=there, hosts=sorted(recorder.hosts), notes=[note])
    await site.learn_robots(origin_of(there), "site")
