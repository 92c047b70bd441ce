"""One address, step by step: what decides its state for each crawler, so that each step can be followed by eye."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from indrel.ask.rendered_view import View, views
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
NOT_NAMED = ", as no group names this crawler"
"""Addresses of one sort that are shown."""


@dataclass(frozen=True, slots=True)
class Step:
    step: str
    outcome: str
    evidence: tuple[Evidence, ...] = ()

    def as_json(self) -> dict[str, object]:
        return {"step": self.step, "outcome": self.outcome, "evidence": [e.as_json() for e in self.evidence]}


@dataclass(frozen=True)
class Explanation:
    """What is known of one address."""

    url: str
    known: bool
    kind: str
    section: str
    want: str
    want_because: str
    states: dict[str, str]
    steps: dict[str, list[Step]]
    linked_from: list[Evidence] = field(default_factory=list)
    link_count: tuple[int, int] = (0, 0)
    listed_in: list[Evidence] = field(default_factory=list)
    folds_into: str | None = None
    folded_here: list[str] = field(default_factory=list)
    folded_count: int = 0
    findings: list[Finding] = field(default_factory=list)
    kind_because: str = ""
    entry: WantEntry | None = None
    shadowed: list[WantEntry] = field(default_factory=list)
    clicks: int | None = None
    template: float = 0.0
    views: list[View] = field(default_factory=list)

    def as_json(self) -> dict[str, object]:
        doc: dict[str, object] = {
            "url": self.url,
            "want": {
                "value": self.want,
                "rule": self.entry.text if self.entry else None,
                "because": self.want_because,
                "stated": self.entry is not None,
            },
            "states": self.states,
            "steps": {name: [s.as_json() for s in steps] for name, steps in self.steps.items()},
            "linked_from": [e.as_json() for e in self.linked_from],
            "listed_in": [e.as_json() for e in self.listed_in],
            "folds_into": self.folds_into,
            "folded_here": self.folded_here,
            "findings": [f.as_json() for f in self.findings],
            "kind": self.kind,
            "kind_because": self.kind_because,
            "section": self.section,
            "clicks": self.clicks,
            "known": self.known,
        }
        if self.views:
            first, *others = (v.as_json() for v in self.views)
            doc["rendered"] = first | ({"others": others} if others else {})
        return doc


def explain(site: Site, url: str, findings: Sequence[Finding] = ()) -> Explanation:
    """Explain an address; one that the snapshot does not know is decided by robots.txt alone."""
    number = site.id_of(url)
    fact = _fact(site, number)
    states, steps = {}, {}
    behind = reasons(site, [number]).get(number, []) if number is not None else []
    page = _read(site, fact) if fact and fact["read"] else None
    for i, crawler in enumerate(site.crawlers):
        robots_step, allowed = robots_steps(site, url, crawler)
        steps[crawler.token] = robots_step
        if fact is None:
            states[crawler.token] = State.UNREAD.value if allowed else State.BARRED.value
            steps[crawler.token].append(Step("answer", "not read: the audit did not come across this address"))
        else:
            states[crawler.token] = fact["states"][i]
            steps[crawler.token] += _page_steps(site, fact, page, crawler, states[crawler.token])
        by = tuple(decides(behind, i))
        steps[crawler.token].append(Step("state", _state_words(states[crawler.token]), by))
        steps[crawler.token].append(change_step(site, url, fact, crawler, states[crawler.token], by))
    kind = fact["kind"] if fact else kind_of_address(url)
    entries = site.intent.deciding(url, kind)
    entry = entries[0] if entries else None
    if fact is None or number is None:
        implied = implied_want(kind)
        want, because = (entry.want, _stated(site, entry)) if entry else (implied, _of_its_kind(implied, kind))
        return Explanation(
            url, False, kind, site.section(url), want, because, states, steps, entry=entry, shadowed=entries[1:]
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
        findings=[f for f in findings if f.address == url or url in f.also],
        kind_because=why(fact["kind_rule"]),
        entry=entry,
        shadowed=entries[1:],
        clicks=_clicks(site, number),
        template=_template_share(site, number),
        views=views(site, number),
    )


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
        f"""SELECT {columns}, (SELECT origin || path FROM address WHERE id = folds_to),
        (SELECT origin || path FROM address WHERE id = folds_into), read, want, [{states}]
        FROM fact WHERE id = ?""",
        [number],
    )[0]
    return dict(zip([*columns.split(", "), "folds_to", "folds_into", "read", "want", "states"], row, strict=True))


def _why_wanted(site: Site, url: str, fact: dict[str, Any]) -> str:
    if fact["start"]:
        return (
            "implied: it is the start page"
            if url == site.base
            else f"implied: it is the start page, as {site.base} leads here"
        )
    if fact["listed"]:
        return "implied: a sitemap puts it forward"
    if fact["named"]:
        return "implied: other pages name it as canonical"
    if url == site.base and fact["folds_into"] and site.fronts[site.base_origin] != url:
        return f"it only leads on: the start page is {site.fronts[site.base_origin]}"
    return _of_its_kind(fact["want"], fact["kind"])


def _of_its_kind(want: str, kind: str) -> str:
    return f"implied: pages of its kind ({kind}) are nearly always junk" if want == Want.HIDE else "nothing says so"


def robots_steps(site: Site, url: str, crawler: Crawler) -> tuple[list[Step], bool]:
    """The steps by which robots.txt decides an address for a crawler, and whether it may be fetched."""
    parts = split(url)
    host = site.robots.get(parts.origin)
    if host is None or not host.known:
        return [Step("robots", "robots.txt of this host is not known, so nothing is taken to be barred")], True
    shown = Evidence("status", host.final or host.url, None, status_text(host.status, host.error))
    via = f" after {plural(len(host.hops), 'redirect')}" if host.hops else ""
    if host.access is Access.ALL_BARRED:
        return [
            Step("robots", f"robots.txt could not be read{via}, so crawlers take everything as barred", (shown,))
        ], False
    if host.access is Access.ALL_ALLOWED:
        shown = shown if site.is_live else shown._replace(text=NO_SUCH_FILE)
        return [Step("robots", f"there is no robots.txt{via}: everything may be fetched", (shown,))], True
    page = " with an HTML page" if is_page(host) else ""
    steps = [Step("robots", f"robots.txt answered{via}{page}", (shown,))]
    if parts.path == ALWAYS_ALLOWED:
        return [*steps, Step("rule", "robots.txt itself may always be fetched")], True
    rules = host.ruleset(crawler)
    if rules.group is None:
        return [*steps, Step("group", "no group holds for this crawler: everything may be fetched")], True
    named = tuple(robots_line(host, line.number, line.text) for line in rules.lines)
    how = NOT_NAMED if rules.group != crawler.token else ""
    steps.append(Step("group", f"the group for {rules.group} holds{how}", named))
    hits = host.verdict.matching(parts.path, crawler)
    other = host.verdict.by_letter(parts.path, crawler)
    note = f"; {other}" if other else ""
    if not hits:
        unmatched = f"none of its {len(rules.rules)} rules" if len(rules.rules) > 1 else "no rule of its own"
        return [
            *steps,
            Step("rule", f"{unmatched} matches: it may be fetched{note}"),
        ], True
    deciding, losers = hits[0], hits[1:]
    verb = "allows" if deciding.allow else "bars"
    beaten = f", beating {plural(len(losers), 'shorter or weaker rule')}" if losers else ""
    evidence = tuple(robots_line(host, r.line, r.text) for r in hits[:6])
    return [*steps, Step("rule", f"{code(deciding.text)} {verb} it{beaten}{note}", evidence)], deciding.allow


class _Read(NamedTuple):
    """What an address answered and what its page says, the same for every crawler."""

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
        why = "barred, so it was not asked for" if state == State.BARRED else "not read in this audit"
        problem = site.one("SELECT problem FROM page WHERE address = ?", [fact["id"]])
        why = f"{why}: {problem}" if problem else why
        return [Step("answer", why)]
    status = status_text(fact["status"], fact["error"])
    outcome = status + (f", {fact['media_type']}" if fact["media_type"] else "")
    if fact["tail"] == State.BROKEN and (fact["status"] or 0) == 200:
        same = "a made-up address gets the same page" if fact["matches_missing"] else "it says so itself"
        outcome += f", but it is an error page ({same})"
    if page.problem:
        outcome += f"; not read to its end: {page.problem}"
    if state == State.BARRED:
        outcome += " (read by this audit; the crawler may not)"
    if fact["folds_to"] and fact["fold_how"] != "canonical":
        outcome += f": leads to {fact['folds_to']}"
        if fact["folds_into"] is None:
            outcome += ", which never ends (a loop)"
        elif fact["folds_into"] != fact["folds_to"]:
            outcome += f", in the end to {fact['folds_into']}"
        hop = _barred_hop(site, fact, crawler)
        outcome += f"; but robots.txt bars {hop} on the way" if hop else ""
    steps = [Step("answer", outcome, page.answer)]
    if fact["status"] is None or fact["status"] >= 300:
        return steps
    return [*steps, _directive_step(page.directives, crawler), page.canonical]


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
                said += ["noindex, for its date has passed"] if expired else []
    if not rows:
        return Step("directives", "none: it may be listed and its links followed")
    if not shown:
        return Step("directives", "none for this crawler")
    return Step("directives", listing(said) or "none that has an effect", tuple(shown))


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
        return Step("canonical", "none: the address stands for itself")
    if not usable:
        why = rows[0][3] or "it stands in the body"
        return Step("canonical", f"none that counts ({why}): the address stands for itself", shown)
    if len(named) > 1:
        return Step(
            "canonical", f"{len(named)} different ones, so all are ignored: the address stands for itself", shown
        )
    if fact["fold_how"] != "canonical":
        first = next(r[2] for r in counted if not r[3])
        return Step("canonical", f"names the address itself ({first})", shown)
    end = fact["folds_into"]
    tail = ", a loop" if end is None else f", which leads to {end}" if end != fact["folds_to"] else ""
    return Step("canonical", f"names {fact['folds_to']}{tail}", shown)


def _state_words(state: str) -> str:
    words = {
        State.BARRED: "may not be fetched; it may still be listed by its address if others link to it",
        State.UNREAD: "may be fetched, but was not",
        State.LOCKED: "asks for credentials",
        State.GONE: "there is nothing there",
        State.BROKEN: "answers with an error",
        State.FOLDED: "another address stands for it",
        State.HIDDEN: "may be fetched, but says noindex",
        State.OPEN: "may be fetched and listed",
    }
    return f"{state}: {words[State(state)]}"


def change_step(
    site: Site, url: str, fact: dict[str, Any] | None, crawler: Crawler, state: str, by: tuple[Evidence, ...]
) -> Step:
    """What to edit so that the state becomes another one; `by` is what decided it."""
    if state == State.BARRED:
        return _unbar(site, url, crawler)
    if fact is None or state == State.UNREAD:
        return Step("change", "to know more, link it or give it with --urls, and audit again")
    if state == State.HIDDEN:
        places = listing([_place(e) for e in by])
        return Step("change", f"to show it, edit {places}: take the noindex (or the date that has passed) out", by)
    if state == State.FOLDED:
        if fact["fold_how"] == "canonical":
            return Step("change", f"to let it stand for itself, edit {_place(by[0])}: name {url} there", by)
        where = (
            _place(by[0]) if fact["fold_how"] == "refresh" else "the server's configuration"
            if fact["fold_how"] == "redirect" else f"the scripts of {url}"
        )  # fmt: skip
        if fact["fold_how"] == "script":
            return Step("change", f"to let it stand for itself, edit {where}: do not lead elsewhere there", by)
        return Step("change", f"to let it stand for itself, edit {where}: take the {fact['fold_how']} out", by)
    if state == State.BROKEN and fact["status"] is not None and fact["status"] < 300:
        return Step("change", "to mend it, answer 404 or 410 if there is nothing, or put the page's content back")
    words = {
        State.LOCKED: "to open it, edit the server's configuration: answer without asking for credentials",
        State.GONE: "to bring it back, put the page there again; if it moved, redirect (301) to its new address",
        State.BROKEN: "to mend it, look into the server's error log for this address",
        State.OPEN: 'to hide it, add `<meta name="robots" content="noindex">` to its head'
        + " (do not bar it: then the noindex is never read)",
    }
    if state == State.OPEN and not fact["html"]:
        return Step("change", "to hide it, edit the server's configuration: send `X-Robots-Tag: noindex` with it")
    return Step("change", words[State(state)])


def _unbar(site: Site, url: str, crawler: Crawler) -> Step:
    _, rule, rules = site.rule_for(url, crawler)
    host = site.robots.get(split(url).origin)
    if host is None or rule is None or rules is None:
        return Step(
            "change", "to open it, make robots.txt of its host answer 200 with rules, or 404 if there are to be none"
        )
    line = robots_line(host, rule.line, rule.text)
    path = split(url).path
    beside = f", or add `Allow: {path}` to the group for {rules.group}" if len(path) > len(rule.path) else ""
    return Step("change", f"to open it, edit {_place(line)}: narrow {code(rule.text)} or take it out{beside}", (line,))


def _place(evidence: Evidence) -> str:
    if evidence.kind == "header":
        return f"the server's configuration for {evidence.where}"
    return f"{evidence.where}:{evidence.line}" if evidence.line else evidence.where


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
