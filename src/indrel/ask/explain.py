"""One address, step by step: what decides its state for each crawler, so that each step can be followed by eye."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from indrel.ask.change_step import Step, change_step
from indrel.ask.explanation import Explanation
from indrel.ask.near import near
from indrel.ask.rendered_view import views
from indrel.base.plain import code
from indrel.checks.evidence import WHERE, answers, links_to, robots_line
from indrel.checks.topics.robots import is_page
from indrel.core.address import split
from indrel.core.answers import NO_SUCH_FILE, status_text
from indrel.core.crawlers import Crawler
from indrel.core.intent import WantEntry
from indrel.core.model import Evidence, Finding, State, Want, listing, plural
from indrel.core.robots import ALWAYS_ALLOWED, Access
from indrel.decide.kinds import implied_want, kind_of_address, why
from indrel.decide.place import placed
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

MOST = 20
"""URLs of one kind that are shown."""

NOT_NAMED = ", because no group names this crawler"


def explain(site: Site, url: str, findings: Sequence[Finding] = ()) -> Explanation:
    """Explain a URL; for one that the snapshot does not know, robots.txt alone decides."""
    number = site.id_of(url)
    fact = _fact(site, number)
    file = _file_words(site, url)
    states, steps = _decided(site, url, number, fact, file)
    kind = fact["kind"] if fact else kind_of_address(url)
    entries = site.intent.deciding(url, kind)
    entry = entries[0] if entries else None
    if fact is None or number is None:
        implied = implied_want(kind)
        want, because = (entry.want, _stated(site, entry)) if entry else (implied, _of_its_kind(implied, kind))
        return Explanation(
            url,
            False,
            kind,
            site.section(url),
            want,
            because,
            states,
            steps,
            entry=entry,
            shadowed=entries[1:],
            file=file,
            near=near(site, url),
        )
    return Explanation(
        url=url,
        known=True,
        kind=fact["kind"],
        section=site.section(url),
        want=fact["want"],
        want_because=_stated(site, entry) if entry else _why_wanted(site, url, fact),
        states=states,
        steps=steps,
        linked_from=links_to(site, [number], most=MOST).get(number, []),
        link_count=(fact["followed"], fact["unfollowed"]),
        listed_in=_listed_in(site, number),
        folds_into=fact["folds_into"] or fact["folds_to"],
        folded_here=_folded_here(site, number),
        folded_count=int(site.one("SELECT count(*) FROM fact WHERE site AND folds_into = ?", [number])),
        findings=sorted((f for f in findings if f.address == url or url in f.also), key=lambda f: f.address != url),
        kind_because=why(fact["kind_rule"]),
        entry=entry,
        shadowed=entries[1:],
        clicks=_clicks(site, number),
        template=_template_share(site, number),
        views=views(site, number),
        file=file,
    )


def _decided(
    site: Site, url: str, number: int | None, fact: dict[str, Any] | None, file: str | None
) -> tuple[dict[str, str], dict[str, list[Step]]]:
    """Per crawler the state of a URL, and the steps that lead to it; `file` says what it is, if it is no page."""
    states: dict[str, str] = {}
    steps: dict[str, list[Step]] = {}
    behind = reasons(site, [number]).get(number, []) if number is not None else []
    page = _read(site, fact) if fact and fact["read"] else None
    for i, crawler in enumerate(site.crawlers):
        robots_step, allowed = robots_steps(site, url, crawler)
        steps[crawler.token] = robots_step
        if fact is None:
            states[crawler.token] = State.UNREAD.value if allowed else State.BARRED.value
            steps[crawler.token].append(Step("answer", file or "not read: this audit did not find this URL"))
        else:
            states[crawler.token] = fact["states"][i]
            steps[crawler.token] += _page_steps(site, fact, page, crawler, states[crawler.token])
        if file and (fact is None or not fact["read"]):
            continue  # it was read as a file, and is no page whose state could change
        by = tuple(decides(behind, i))
        steps[crawler.token].append(Step("state", _state_words(states[crawler.token]), by))
        steps[crawler.token].append(change_step(site, url, fact, crawler, states[crawler.token], by))
    return states, steps


def _stated(site: Site, entry: WantEntry) -> str:
    """What the intent file says: the reason, and where it stands."""
    because = f"{entry.because}; " if entry.because else ""
    return f"{because}{site.intent.where}:{entry.line}"


def _clicks(site: Site, number: int) -> int | None:
    """Followed links from the start page, as the last of the crawlers goes; None where it does not come here."""
    placed(site)
    found = site.one("SELECT clicks FROM place WHERE address = ?", [number])
    return None if found is None else int(found)


def _template_share(site: Site, number: int) -> float:
    """The share of the pages read that link to an address."""
    pages, linking = site.rows(
        """SELECT (SELECT count(*) FROM fact WHERE site AND html),
        (SELECT count(DISTINCT source) FROM link WHERE target = ?)""",
        [number],
    )[0]
    return linking / pages if pages else 0.0


def _fact(site: Site, number: int | None) -> dict[str, Any] | None:
    if number is None:
        return None
    states = site.states_sql
    columns = (
        "id, path, status, error, media_type, tail, fold_how, html, listed, named, start, followed, unfollowed, kind, kind_rule, "
        "matches_missing"
    )
    row = site.rows(
        f"""SELECT {columns}, origin || path, (SELECT origin || path FROM address WHERE id = folds_to),
        (SELECT origin || path FROM address WHERE id = folds_into), read, want, [{states}]
        FROM fact WHERE id = ?""",
        [number],
    )[0]
    return dict(
        zip([*columns.split(", "), "url", "folds_to", "folds_into", "read", "want", "states"], row, strict=True)
    )


def _why_wanted(site: Site, url: str, fact: dict[str, Any]) -> str:
    if fact["start"]:
        return (
            "inferred: it is the home page"
            if url == site.base
            else f"inferred: it is the home page, because {site.base} redirects here"
        )
    if fact["listed"] and fact["want"] != Want.SHOW:
        return "not stated: a sitemap lists it, but it is closed and looks private"
    if fact["listed"]:
        return "inferred: it is in a sitemap"
    if fact["named"]:
        return "inferred: canonicals of other pages point to it"
    if url == site.base and fact["folds_into"] and site.fronts[site.base_origin] != url:
        return f"it only redirects: the home page is {site.fronts[site.base_origin]}"
    return _of_its_kind(fact["want"], fact["kind"])


def _of_its_kind(want: str, kind: str) -> str:
    return f"inferred: pages of this kind ({kind}) are nearly always junk" if want == Want.HIDE else "not stated"


def robots_steps(site: Site, url: str, crawler: Crawler) -> tuple[list[Step], bool]:
    """The steps by which robots.txt decides an address for a crawler, and whether it may be fetched."""
    parts = split(url)
    host = site.robots.get(parts.origin)
    if host is None or not host.known:
        return [Step("robots", "robots.txt of this host is unknown, so nothing counts as blocked")], True
    shown = Evidence("status", host.final or host.url, None, status_text(host.status, host.error))
    via = f" after {plural(len(host.hops), 'redirect')}" if host.hops else ""
    if host.access is Access.ALL_BARRED:
        return [
            Step("robots", f"robots.txt is unreachable{via}, so crawlers treat everything as blocked", (shown,))
        ], False
    if host.access is Access.ALL_ALLOWED:
        shown = shown if site.is_live else shown._replace(text=NO_SUCH_FILE)
        return [Step("robots", f"there is no robots.txt{via}, so everything may be fetched", (shown,))], True
    page = ", but it is an HTML page" if is_page(host) else ""
    steps = [Step("robots", f"robots.txt was read{via}{page}", (shown,))]
    if parts.path == ALWAYS_ALLOWED:
        return [*steps, Step("rule", "robots.txt itself may always be fetched")], True
    rules = host.ruleset(crawler)
    if rules.group is None:
        return [*steps, Step("group", "no group applies to this crawler, so everything may be fetched")], True
    named = tuple(robots_line(host, line.number, line.text) for line in rules.lines)
    how = NOT_NAMED if rules.group != crawler.token else ""
    steps.append(Step("group", f"the group for {rules.group} applies{how}", named))
    hits = host.verdict.matching(parts.path, crawler)
    other = host.verdict.by_letter(parts.path, crawler)
    note = f"; {other}" if other else ""
    if not hits:
        unmatched = (
            f"none of its {len(rules.rules)} rules matches" if len(rules.rules) > 1 else "its rule does not match"
        )
        return [
            *steps,
            Step("rule", f"{unmatched}, so the URL may be fetched{note}"),
        ], True
    deciding, losers = hits[0], hits[1:]
    verb = "allows" if deciding.allow else "blocks"
    beaten = f" and overrides {plural(len(losers), 'shorter or weaker rule')}" if losers else ""
    evidence = tuple(robots_line(host, r.line, r.text) for r in hits[:6])
    return [*steps, Step("rule", f"{code(deciding.text)} {verb} it{beaten}{note}", evidence)], deciding.allow


class _Read(NamedTuple):
    """The response and the directives of a page, the same for every crawler."""

    answer: tuple[Evidence, ...]
    problem: str | None
    directives: list[tuple[Any, ...]]
    canonical: Step


def _read(site: Site, fact: dict[str, Any]) -> _Read:
    number = fact["id"]
    problem = site.one("SELECT problem FROM page WHERE address = ?", [number])
    return _Read(answers(site, [number])[number], problem, _directives(site, number), _canonical_step(site, fact))


def _page_steps(site: Site, fact: dict[str, Any], page: _Read | None, crawler: Crawler, state: str) -> list[Step]:
    if page is None:
        why = "blocked, so it was not requested" if state == State.BARRED else "not read in this audit"
        problem = site.one("SELECT problem FROM page WHERE address = ?", [fact["id"]])
        why = f"{why}: {problem}" if problem else why
        return [Step("answer", why)]
    status = status_text(fact["status"], fact["error"])
    what = _file_words(site, fact["url"])
    outcome = status + (f", {fact['media_type']}" if fact["media_type"] else "")
    if fact["tail"] == State.BROKEN and (fact["status"] or 0) == 200:
        same = "a URL that cannot exist gets the same page" if fact["matches_missing"] else "its text says so"
        outcome += f", but it is an error page ({same})"
    outcome += f"; {what}" if what else ""
    if page.problem:
        outcome += f"; not read completely: {page.problem}"
    if state == State.BARRED:
        outcome += " (this audit read it; the crawler may not)"
    if fact["folds_to"] and fact["fold_how"] != "canonical":
        outcome += f": redirects to {fact['folds_to']}"
        if fact["folds_into"] is None:
            outcome += ", in a loop"
        elif fact["folds_into"] != fact["folds_to"]:
            outcome += f", and finally to {fact['folds_into']}"
        hop = _barred_hop(site, fact, crawler)
        outcome += f"; but robots.txt blocks {hop} on the way" if hop else ""
    steps = [Step("answer", outcome, page.answer)]
    if fact["status"] is None or fact["status"] >= 300:
        return steps
    return [*steps, *_asked_as(site, fact["id"], crawler), _directive_step(page.directives, crawler), page.canonical,
            *_scripted(site, fact["id"], crawler)]  # fmt: skip


def _file_words(site: Site, url: str) -> str | None:
    """What a file that is no page is: a sitemap, robots.txt or a feed, and how much is in it."""
    for kind, entries, error, fetch_error, status in site.rows(
        "SELECT kind, entries, error, fetch_error, status FROM sitemap WHERE url = ? OR final = ? LIMIT 1", [url, url]
    ):
        if kind in ("rss", "atom", "urlset", "text", "index"):
            name = (
                "a sitemap index"
                if kind == "index"
                else "a feed read as a sitemap"
                if kind in ("rss", "atom")
                else "a sitemap"
            )
            files = site.one("SELECT count(*) FROM sitemap c JOIN sitemap i ON i.id = c.parent WHERE i.url = ?", [url])
            held = (
                f"{plural(files, 'file')} that were read"
                if kind == "index"
                else plural(entries or 0, "entry", "entries")
            )
            return f"{name} with {held}" + (f", broken: {error}" if error else "")
        return f"named as a sitemap, but it is none ({error or fetch_error or status_text(status, None)})"
    host = site.robots.get(split(url).origin)
    if split(url).path == ALWAYS_ALLOWED and host is not None and host.known:
        rules = sum(len(host.file.ruleset((token,)).rules) for token in host.file.agents)
        return f"robots.txt with {plural(rules, 'rule')} in {plural(len(host.file.agents), 'group')}"
    number = site.id_of(url)
    is_feed = number is not None and site.one("SELECT count(*) FROM fact WHERE id = ? AND kind = 'feed'", [number])
    return "a feed: its entries are not read, because nothing names it as a sitemap" if is_feed else None


def _asked_as(site: Site, number: int, crawler: Crawler) -> list[Step]:
    """What the page answers under the crawler's name, where that differs."""
    rows = site.rows(
        "SELECT what, ours, theirs FROM as_crawler WHERE address = ? AND lower(crawler) = ? ORDER BY what",
        [number, crawler.token],
    )
    said = [f"{what}: {theirs or 'none'} (otherwise {ours or 'none'})" for what, ours, theirs in rows]
    return [Step("as crawler", f"requested under its name, it differs in {'; '.join(said)}")] if said else []


def _scripted(site: Site, number: int, crawler: Crawler) -> list[Step]:
    """Directives and canonicals of the rendered page."""
    bit = f"{site.looked_for('r.mask')} & {1 << site.crawlers.index(crawler)} > 0"
    rows = site.rows(
        f"""SELECT r.text FROM render_directive r WHERE r.address = ? AND {bit} AND r.text NOT IN (
            SELECT text FROM directive WHERE address = r.address)
        UNION ALL SELECT r.text FROM render_canonical r WHERE r.address = ? AND {bit} AND r.text NOT IN (
            SELECT text FROM canonical WHERE address = r.address)""",
        [number, number],
    )
    shown = tuple(
        Evidence("rendered", site.one("SELECT origin || path FROM address WHERE id = ?", [number]), None, text)
        for (text,) in rows
    )
    return (
        [Step("rendered", f"its scripts leave {plural(len(shown), 'other tag')} than the ones served", shown)]
        if shown
        else []
    )


def _barred_hop(site: Site, fact: dict[str, Any], crawler: Crawler) -> str | None:
    """The first address on the way of a redirect that the crawler may not fetch."""
    bit = 1 << site.crawlers.index(crawler)
    rows = site.rows(
        f"""WITH RECURSIVE way(id, depth) AS (SELECT folds_to, 1 FROM fact WHERE id = ? UNION ALL
            SELECT f.folds_to, depth + 1 FROM way JOIN fact f ON f.id = way.id
            WHERE f.folds_to IS NOT NULL AND f.fold_how <> 'canonical' AND depth < 20)
        SELECT f.origin || f.path FROM way JOIN fact f ON f.id = way.id WHERE f.barred & {bit} > 0 ORDER BY depth LIMIT 1""",
        [fact["id"]],
    )
    return rows[0][0] if rows else None


def _directives(site: Site, number: int) -> list[tuple[Any, ...]]:
    return site.rows(
        f"""SELECT d.origin, d.scope, d.tokens, d.void, d.in_body, d.line, d.text, {site.expired_sql}, {WHERE}
        FROM directive d JOIN address a ON a.id = d.address JOIN answer n ON n.address = d.address
        WHERE d.address = ? ORDER BY d.origin, d.line, d.text""",
        [number],
    )


def _directive_step(rows: Sequence[tuple[Any, ...]], crawler: Crawler) -> Step:
    said: list[str] = []
    shown: list[Evidence] = []
    for origin, scope, tokens, void, in_body, line, text, expired, where in rows:
        if scope in crawler.scopes:
            kind = "header" if origin else "tag"
            shown.append(Evidence(kind, where, line, text))
            source = (
                ("header" if origin else "tag")
                + (f" for {scope}" if scope else "")
                + (" in the body" if in_body else "")
            )
            if void:
                said.append(f"a {source} without effect ({void})")
            else:
                said += [f"{t} ({source})" for t in tokens]
                said += ["noindex, because its date has passed"] if expired else []
    if not rows:
        return Step("directives", "none: it can be indexed and its links followed")
    if not shown:
        return Step("directives", "none for this crawler")
    return Step("directives", listing(said) or "none with an effect", tuple(shown))


def _canonical_step(site: Site, fact: dict[str, Any]) -> Step:
    rows = site.rows(
        f"""SELECT c.origin, c.line, c.text, c.fault, c.in_body, t.origin || t.path, {WHERE}
        FROM canonical c LEFT JOIN address t ON t.id = c.target JOIN address a ON a.id = c.address
        JOIN answer n ON n.address = c.address WHERE c.address = ? ORDER BY c.origin, c.line, c.text""",
        [fact["id"]],
    )
    shown = tuple(Evidence("header" if r[0] else "canonical", r[6], r[1], r[2]) for r in rows)
    counted = [r for r in rows if not r[4] and (not r[3] or r[5] is None)]  # a cancelled one is none
    usable = {r[5] for r in counted if not r[3]}
    named = usable | {r[2] for r in counted if r[3]}
    if not rows:
        return Step("canonical", "none: the page is its own canonical")
    if not usable:
        why = rows[0][3] or "it is in the body"
        return Step("canonical", f"none that counts ({why}): the page is its own canonical", shown)
    if len(named) > 1:
        return Step(
            "canonical", f"{len(named)} different ones, so all are ignored: the page is its own canonical", shown
        )
    if fact["fold_how"] in ("refresh", "script"):
        return Step(
            "canonical",
            f"does not count here: the page leads to {fact['folds_to']} at once, whose canonical counts",
            shown,
        )
    if fact["fold_how"] != "canonical":
        first = next(r[2] for r in counted if not r[3])
        return Step("canonical", f"points to the page itself ({first})", shown)
    end = fact["folds_into"]
    tail = ", in a loop" if end is None else f", which leads to {end}" if end != fact["folds_to"] else ""
    return Step("canonical", f"points to {fact['folds_to']}{tail}", shown)


def _state_words(state: str) -> str:
    words = {
        State.BARRED: "blocked by robots.txt; the bare URL can still be indexed from links to it",
        State.UNREAD: "may be fetched, but was not read",
        State.LOCKED: "forbidden (401 or 403)",
        State.GONE: "there is no page",
        State.BROKEN: "returns an error, or is a soft 404",
        State.FOLDED: "another URL represents it",
        State.HIDDEN: "may be fetched, but has noindex",
        State.OPEN: "can be fetched and indexed",
    }
    return f"{state}: {words[State(state)]}"


def _listed_in(site: Site, number: int) -> list[Evidence]:
    return [
        Evidence("sitemap", url, line, loc if kind == "text" else f"<loc>{loc}</loc>")
        for url, line, loc, kind in site.rows(
            "SELECT m.url, e.line, e.loc, m.kind FROM entry e JOIN sitemap m ON m.id = e.sitemap WHERE e.address = ? "
            f"ORDER BY m.id, e.line LIMIT {MOST}",
            [number],
        )
    ]


def _folded_here(site: Site, number: int) -> list[str]:
    return [
        url
        for (url,) in site.rows(
            f"SELECT origin || path FROM fact WHERE folds_into = ? AND id <> ? ORDER BY 1 LIMIT {MOST}",
            [number, number],
        )
    ]
