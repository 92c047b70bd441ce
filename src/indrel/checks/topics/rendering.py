"""What an obedient rendering crawler sees otherwise than the page is served: only where pages were looked at with a browser."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.evidence import WHERE, about, rules, scripts
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural, verb
from indrel.decide.predicates import CANONICAL_COUNTS
from indrel.decide.site import Site

NEEDED = ("script", "data", "frame", "document", "style")
"""Kinds of requests without which a page can come out empty."""

MOST_SHOWN = 6
_NEUTRAL = frozenset({
    "index", "follow", "all", "max-snippet:-1", "max-image-preview:large", "max-video-preview:-1",
})  # fmt: skip
"""Tokens that ask for what is the default anyway."""

_DECIDES = frozenset({"noindex", "nofollow"})


def sampled(site: Site, group: int | None) -> str:
    """How many pages of its group were viewed, if not all were."""
    groups = (site.meta.get("rendered") or {}).get("groups") or []
    if group is None or not 0 <= group < len(groups):
        return ""
    name, pages, looked = groups[group]
    return (
        f" ({looked:,} of {plural(pages, 'page')} of {name} with the same scripts {verb(looked, 'was', 'were')} viewed)"
        if looked < pages
        else ""
    )


WRONG = """r.outcome IN ('empty', 'error') AND coalesce(r.visit, '') <> 'ok' AND r.leads_to IS NULL AND f.status < 300
    AND NOT (r.outcome = 'error' AND r.served_error)"""
"""A page that is empty or an error once rendered, and is not one as served or after a visit."""


class Look(NamedTuple):
    """A look at a page with the browser: the page and where it stands, the look's own mask, the crawlers asked about that may
    fetch the page, the page's group, what was served, and what came of it."""

    id: int
    url: str
    place: str
    mask: int
    crawlers: int
    group: int | None
    status: int
    error: str | None
    outcome: str
    excerpt: str | None
    errors: int | None
    leads_to: str | None


def looks(site: Site, condition: str) -> list[Look]:
    """Looks that meet a condition over `r` (render) and `f` (fact), for the crawlers asked about that may fetch the page."""
    return site.named(
        Look,
        f"""SELECT r.address, f.origin || f.path AS url, coalesce(n.file, f.origin || f.path), r.mask,
            {site.looked_for("r.mask")} & ~f.barred AS able, r.grp, f.status, f.error, r.outcome, r.excerpt, r.errors,
            (SELECT t.origin || t.path FROM address t WHERE t.id = r.leads_to)
        FROM render r JOIN fact f ON f.id = r.address JOIN answer n ON n.address = r.address
        WHERE f.site AND {condition} AND able > 0 ORDER BY url, r.mask""",
    )


def _effect(tokens: list[str]) -> frozenset[str]:
    """What tokens come to: `none` is two, and what is the default anyway is nothing."""
    found = set(tokens) - _NEUTRAL
    return frozenset((found - {"none"}) | _DECIDES if "none" in found else found)


@check(
    "script-changes-robots",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.RENDERED,),
    feeds=("render",),
)
def script_changes_robots(site: Site) -> Iterator[Hit]:
    """The robots directives of the rendered page differ from those of the served page.

    Why: Crawlers that run scripts and crawlers that do not obey different directives. With a served noindex, engines run no
    script.
    Fix: Serve the directives that you want with the page, and do not change robots tags in scripts.
    Source: Engine practice: a page with a served noindex is not rendered; a noindex that scripts add counts once rendered.
    Evidence: The tag as served and as rendered.
    """
    told: dict[tuple[int, int], dict[str, list[Any]]] = {}
    pages = looks(site, "r.outcome <> 'none' AND f.status < 300")
    rows = about(
        site,
        [look.id for look in pages],
        f"""SELECT d.address, 0::UBIGINT AS rendered, d.origin, s.mask, d.tokens, {WHERE}, d.line, d.text
        FROM directive d JOIN picked ON picked.id = d.address JOIN scope s ON s.name = d.scope
        JOIN address a ON a.id = d.address JOIN answer n ON n.address = d.address WHERE d.void IS NULL
        UNION ALL
        SELECT d.address, d.mask, 0, s.mask, d.tokens, {WHERE}, NULL, d.text
        FROM render_directive d JOIN picked ON picked.id = d.address JOIN scope s ON s.name = d.scope
        JOIN address a ON a.id = d.address JOIN answer n ON n.address = d.address ORDER BY ALL""",
    )
    for address, rendered, origin, mask, tokens, where, line, text in rows:
        side = "rendered" if rendered else "header" if origin else "tag"
        told.setdefault((address, rendered), {}).setdefault(side, []).append((mask, tokens, where, line, text))
    for look in pages:
        served, rendered = told.get((look.id, 0), {}), told.get((look.id, look.mask), {})
        changed: dict[tuple[frozenset[str], frozenset[str]], int] = {}
        for i in range(len(site.crawlers)):
            if not look.crawlers >> i & 1:
                continue
            kept = _tokens(served.get("header", ()), i)
            before, after = (
                _effect(kept + _tokens(served.get("tag", ()), i)),
                _effect(kept + _tokens(rendered.get("rendered", ()), i)),
            )
            if before != after:
                changed[before, after] = changed.get((before, after), 0) | 1 << i
        for (before, after), mask in changed.items():
            shown = tuple(Evidence("tag", w, n, t) for m, _, w, n, t in served.get("tag", ()) if m & mask)
            late = tuple(Evidence("rendered", w, n, t) for m, _, w, n, t in rendered.get("rendered", ()) if m & mask)
            removed, added = sorted(before - after), sorted(after - before)
            message = f"{_said(removed, added)}{sampled(site, look.group)}."
            evidence = (*late, *shown) if added and late else (*shown, *late)
            shown = evidence or (Evidence("rendered", look.place, None, "no robots tag"),)
            # scripts that add a noindex and scripts that remove one are two edits, whatever tag they share
            place = (shown[0].kind, shown[0].text, f"-{' '.join(removed)} +{' '.join(added)}")
            yield Hit(look.url, mask, message, shown, place=place, advice=_kept_out(removed, added))


def _kept_out(removed: list[str], added: list[str]) -> str:
    if "noindex" in added:
        return (
            "If the page should be indexed, stop the scripts from adding the noindex. Otherwise serve it with the page."
        )
    if "noindex" in removed:
        return "If the page should be indexed, remove the noindex from the served page. Otherwise stop the scripts from removing it."
    return ""


def _tokens(rows: Any, crawler: int) -> list[str]:
    return [token for mask, tokens, *_ in rows if mask >> crawler & 1 for token in tokens]


def _said(removed: list[str], added: list[str]) -> str:
    if not removed:
        return f"Scripts add {listing(added)}, which the served page does not have"
    tail = ", but crawlers that read it there do not run scripts" if "noindex" in removed else ""
    if not added:
        return f"Scripts remove {listing(removed)}, which the served page has{tail}"
    return f"Scripts replace {listing(removed)} with {listing(added)}{tail}"


@check(
    "script-changes-canonical",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.RENDERED,),
    feeds=("render",),
)
def script_changes_canonical(site: Site) -> Iterator[Hit]:
    """The canonical of the rendered page differs from that of the served page.

    Why: Engines get two answers to which URL represents the page, and they choose one themselves.
    Fix: Serve the canonical with the page, and do not change it in scripts.
    Source: RFC 6596: a page has one canonical; that engines also read the rendered page is engine practice.
    Evidence: The canonical as served and as rendered.
    """
    pages = looks(site, "r.outcome <> 'none' AND r.leads_to IS NULL AND f.status < 300")
    told: dict[tuple[int, int], list[tuple[str, Evidence]]] = {}
    for address, mask, target, kind, where, line, text in about(
        site,
        [look.id for look in pages],
        f"""SELECT c.address, 0::UBIGINT, t.origin || t.path, CASE WHEN c.origin = 1 THEN 'header' ELSE 'canonical' END, {WHERE}, c.line,
            c.text FROM canonical c JOIN picked ON picked.id = c.address JOIN address t ON t.id = c.target
        JOIN address a ON a.id = c.address JOIN answer n ON n.address = c.address WHERE {CANONICAL_COUNTS} AND c.fault IS NULL
        UNION ALL
        SELECT c.address, c.mask, t.origin || t.path, 'rendered', {WHERE}, NULL, c.text FROM render_canonical c
        JOIN picked ON picked.id = c.address JOIN address t ON t.id = c.target JOIN address a ON a.id = c.address
        JOIN answer n ON n.address = c.address WHERE c.fault IS NULL AND NOT c.in_body ORDER BY ALL""",
    ):
        told.setdefault((address, mask), []).append((target, Evidence(kind, where, line, text)))
    for look in pages:
        served, rendered = told.get((look.id, 0), []), told.get((look.id, look.mask), [])
        header = {t for t, e in served if e.kind == "header"}
        before, after = {t for t, _ in served}, {t for t, _ in rendered} | header
        if before == after:
            continue
        shown = tuple(e for _, e in served if e.kind != "header")
        late = tuple(e for _, e in rendered)
        names = listing(sorted(after)) or "none"
        if not before:
            what = f"Scripts add a canonical that points to {'the page itself' if after == {look.url} else names}"
        elif not after:
            what = f"Scripts remove the canonical of the served page ({listing(sorted(before))})"
        else:
            what = f"Scripts set the canonical {names}, but the served page has {listing(sorted(before))}"
        severity = Severity.NOTE if not before and after == {look.url} else None
        evidence = (*late, *shown) or (Evidence("rendered", look.place, None, "no canonical"),)
        also = tuple(sorted(after - {look.url}))
        yield Hit(
            look.url, look.crawlers, f"{what}{sampled(site, look.group)}.", evidence, also=also, severity=severity
        )


@check(
    "script-leads-away",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.RENDERED,),
    feeds=("render",),
)
def script_leads_away(site: Site) -> Iterator[Hit]:
    """A script leads to another URL at once.

    Why: Crawlers that run scripts treat it as a redirect; others index a page that nobody sees.
    Fix: Redirect with 301 or 308, or remove the script.
    Source: RFC 9110 section 15.4: a redirect has its own status; that engines follow scripts is engine practice.
    Evidence: Where it leads, and the scripts of the page.
    """
    found = _joined(looks(site, "r.leads_to IS NOT NULL"), lambda look: (look.leads_to,))
    ran = scripts(site, [look.id for look in found])
    for look in found:
        target = str(look.leads_to)
        shown = (Evidence("rendered", look.place, None, f"a script leads to {target}"), *ran.get(look.id, ()))
        message = f"A script leads to {target} at once{sampled(site, look.group)}."
        yield Hit(look.url, look.crawlers, message, shown, also=(target,))


@check(
    "script-needs-visit",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.RENDERED,),
    feeds=("render",),
)
def script_needs_visit(site: Site) -> Iterator[Hit]:
    """A URL returns an error on a first visit, but works in a browser with stored state.

    Why: Crawlers always visit for the first time: a service worker or stored values do not exist for them.
    Fix: Let the server return 200 and the page for the URL itself.
    Source: Engine practice: rendering crawlers keep no cookies, storage or service workers between pages.
    Evidence: What a first visit gets, and what a visit after the home page gets.
    """
    found = looks(site, "r.visit = 'ok' AND r.outcome IN ('empty', 'error')")
    for look in _joined(found, lambda look: (look.excerpt,)):
        answer, says = status_text(look.status, look.error), _words(look.excerpt)
        first = f"returns “{answer}”" if look.status >= 400 else f"shows {says}"
        shown = (
            Evidence("status", look.url, None, answer),
            Evidence("rendered", look.url, None, f"on a first visit: {says}"),
            Evidence("rendered", look.url, None, f"after a visit to {site.base}: its content"),
        )
        message = (
            f"The URL {first} on a first visit, but works after a visit to the home page{sampled(site, look.group)}."
        )
        yield Hit(look.url, look.crawlers, message, shown)


@check(
    "content-needs-scroll",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.RENDERED,),
    feeds=("render_link",),
)
def content_needs_scroll(site: Site) -> Iterator[Hit]:
    """Links that nothing else leads to appear only after scrolling or a click.

    Why: Crawlers neither scroll nor click, so they do not find what is behind that from here.
    Fix: Serve links to all of it (paginated pages do), whatever is loaded later for people.
    Source: Engine practice: rendering crawlers view a page as is after loading.
    Evidence: Some of the links.
    """
    found = site.rows(
        f"""SELECT l.source, f.origin || f.path AS url, f.open, count(DISTINCT l.target), list(DISTINCT t.origin || t.path ORDER BY
            t.origin || t.path)[:200], list(DISTINCT l.how ORDER BY l.how), list(DISTINCT l.text ORDER BY l.text)[:3],
            min(r.grp), coalesce(n.file, url)
        FROM render_link l JOIN fact f ON f.id = l.source JOIN fact t ON t.id = l.target JOIN answer n ON n.address = l.source
        JOIN (SELECT address, min(grp) AS grp FROM render GROUP BY address) r ON r.address = l.source
        WHERE l.how <> 'lost' AND f.site AND f.open > 0 AND t.site AND t.followed = 0
        AND t.barred & f.open <> {site.all_mask} GROUP BY ALL ORDER BY url"""
    )
    for _, url, mask, count, targets, hows, texts, group, place in found:
        after = listing(["scrolling"] * (hows != ["click"]) + ["a click"] * ("click" in hows), "or")
        message = (
            f"{plural(count, 'link')} that nothing else leads to {verb(count, 'appears', 'appear')} only after {after}"
        )
        if "tall" in hows:
            seen = "them" if hows == ["tall"] else "some of them"
            message += f"; crawlers that render with a very tall window see {seen}"
        message += f"{sampled(site, group)}."
        yield Hit(
            url, mask, message, tuple(Evidence("rendered", place, None, text) for text in texts), also=tuple(targets)
        )


@check(
    "render-broken",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.RENDERED,),
    feeds=("render",),
)
def render_broken(site: Site) -> Iterator[Hit]:
    """Rendered as the crawler would (without requests that robots.txt blocks), the page shows an error or is empty.

    Why: Engines index that, or treat it as an error page, however well the page looks in a browser.
    Fix: Allow the requests that the page needs on the host that serves them, repair what fails, or serve the content with the
    page.
    Source: RFC 9309 section 2.3: each host's own rules apply to the requests of pages; that engines render is engine practice.
    Evidence: The rule that blocks a request, or the request that failed, and the text of the page.
    """
    found = looks(site, WRONG)
    ids = [look.id for look in found]
    lost = missed(site, ids)
    ran = scripts(site, ids)
    for look in found:
        refused, failed = lost.get((look.id, look.mask), ([], []))
        absent = [
            one for one in failed if one.status and one.status < 500
        ]  # then there is nothing to show: soft-missing
        failed = [one for one in failed if one not in absent]
        what = f"A rendering crawler sees {_words(look.excerpt) if look.outcome == 'error' else 'an empty page'}"
        said = Evidence("rendered", look.place, None, look.excerpt or "no text")
        group = sampled(site, look.group)
        if refused:
            first = refused[0].url
            bars = tuple(dict.fromkeys(e for one in refused for e in rules(site, one.url, look.crawlers)))[:MOST_SHOWN]
            more = f" and {plural(len(refused) - 1, 'more request')}" if len(refused) > 1 else ""
            by = f"{code(bars[0].text)} blocks {first}{more}" if bars else f"{first} is blocked"
            yield Hit(look.url, look.crawlers, f"{what}: {by}{group}.", (*bars, said), also=_targets(refused))
        elif failed:
            shown = tuple(
                Evidence("status", one.url, None, status_text(one.status, None)) for one in failed[:MOST_SHOWN]
            )
            message = f"{what}: {failed[0].url} failed ({shown[0].text}){group}."
            yield Hit(look.url, look.crawlers, message, (*shown, said), also=_targets(failed))
        elif look.errors and not absent:
            message = f"{what}: its scripts stopped with an error{group}."
            yield Hit(look.url, look.crawlers, message, (*ran.get(look.id, ()), said))


class Missed(NamedTuple):
    """A request of a page that failed while loading: its kind, and the status if there was a response."""

    url: str
    kind: str
    status: int | None


def missed(site: Site, ids: list[int]) -> dict[tuple[int, int], tuple[list[Missed], list[Missed]]]:
    """Per page and mask the requests that were refused while loading, and the ones that failed.

    The most likely reasons come first: the site's own data and scripts before those of other hosts.
    """
    kinds = ", ".join(f"'{k}'" for k in NEEDED)
    found: dict[tuple[int, int], tuple[list[Missed], list[Missed]]] = {}
    for source, mask, url, kind, result, status in about(
        site,
        ids,
        f"""SELECT q.source, q.mask, t.origin || t.path AS url, q.kind, q.result, q.status FROM render_request q
        JOIN picked ON picked.id = q.source JOIN address t ON t.id = q.target JOIN address a ON a.id = q.source
        WHERE q.how = 'load' AND q.kind IN ({kinds}) AND q.result IN ('refused', 'failed')
        ORDER BY q.source, q.mask, q.kind = 'style', NOT ends_with(split_part(t.origin, '://', 2), array_to_string(
            list_slice(string_split(split_part(a.origin, '://', 2), '.'), -2, -1), '.')), q.kind <> 'data', url""",
    ):
        found.setdefault((source, mask), ([], []))[result == "failed"].append(Missed(url, kind, status))
    return found


def _targets(lost: list[Missed]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(one.url for one in lost))[:50]


def _joined(found: list[Look], told: Callable[[Look], tuple[object, ...]]) -> list[Look]:
    """Views of one page with the same result are one, for the crawlers of all."""
    joined: dict[tuple[object, ...], Look] = {}
    for look in found:
        key = (look.id, look.place, look.group, *told(look))
        before = joined.get(key)
        joined[key] = look._replace(crawlers=look.crawlers | before.crawlers) if before else look
    return list(joined.values())


def _words(excerpt: str | None) -> str:
    text = " ".join((excerpt or "").split())
    return f"“{text[:80]}{'…' if len(text) > 80 else ''}”" if text else "no text"
