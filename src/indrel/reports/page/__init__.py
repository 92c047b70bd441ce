"""The verdict as one HTML page: self-contained, no outside request, every text of the site escaped."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from importlib.resources import files
from typing import Any

import jinja2
from markupsafe import Markup

from indrel.ask.addresses import listed
from indrel.ask.rendered_view import compared, views, words_for
from indrel.base.plain import safe
from indrel.base.version import __version__
from indrel.checks import checks
from indrel.checks.catalogue import Need
from indrel.checks.rule_use import rule_uses
from indrel.core.model import Cause, Severity, State, Verdict, plural, verb
from indrel.core.robots import Access
from indrel.decide.flow import link_flow
from indrel.decide.matrix import site_matrix
from indrel.decide.place import section_states
from indrel.decide.site import Site
from indrel.decide.sitemaps import sitemap_states
from indrel.reports.panels import panels
from indrel.reports.responsible import who_can_fix
from indrel.reports.terminal import (
    A_CAUSE,
    FATES,
    GLOSSES,
    HEADINGS,
    explains,
    host_of,
    said_of,
    sentence,
    short,
)

SHOWN = 10
"""URLs of a cause that are in the page itself; the others come from its data when a reader asks for them."""

SEARCHED = 20_000
"""URLs up to which all can be searched; of more, only those with findings can."""

LINES = 400
"""Lines of robots.txt that are shown."""

_SCRIPT = str.maketrans({"<": "\\u003c", ">": "\\u003e", "&": "\\u0026", "\u2028": "\\u2028", "\u2029": "\\u2029"})


def as_data(value: object) -> Markup:
    """A value as JSON that may stand in a script element: nothing in it ends the element."""
    return Markup(json.dumps(value, ensure_ascii=False, separators=(",", ":")).translate(_SCRIPT))


def visible(value: object) -> str:
    """A text with control characters and direction marks made visible; the template escapes it."""
    return safe(str(value))


def prose(value: object) -> Markup:
    """A message, escaped: what it quotes between backticks as code."""
    parts = visible(value).split("`")
    shown = (
        Markup("<code>{}</code>").format(part) if place % 2 else Markup.escape(part) for place, part in enumerate(parts)
    )
    return Markup("").join(shown) if len(parts) % 2 else Markup.escape(visible(value))


def is_address(value: str) -> bool:
    return value.startswith(("http://", "https://"))


def rendered(name: str, **values: Any) -> bytes:
    """A template of this folder filled in; whatever a site wrote is escaped."""
    folder = files("indrel.reports.page")
    environment = jinja2.Environment(
        autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True,
        loader=jinja2.FunctionLoader(lambda one: folder.joinpath(one).read_text("utf-8")),
    )  # fmt: skip
    environment.filters |= {
        "visible": visible,
        "prose": prose,
        "grouped": lambda n: f"{n:,}",
        "percent": lambda n: f"{n:.1%}",
    }
    environment.tests["address"] = is_address
    style = Markup(folder.joinpath("page.css").read_text("utf-8"))
    page = environment.get_template(name).render(version=__version__, style=style, **values)
    return page.encode("utf-8", "backslashreplace")


def render(verdict: Verdict, site: Site) -> bytes:
    return rendered(
        "page.html.j2",
        host=host_of(verdict),
        sentence=sentence(verdict),
        lead=lead(verdict),
        a_cause=A_CAUSE,
        glosses={s.value: gloss for s, gloss in GLOSSES.items()},
        verdict=verdict,
        searchable=verdict.addresses if verdict.addresses <= SEARCHED else 0,
        bars=[
            (crawler, _shares(verdict.states[crawler], seen))
            for names, seen in verdict.states_together()
            for crawler in names
        ],
        fates=FATES,
        groups=list(_groups(verdict, site)),
        accepted=[c for c in verdict.causes if c.accepted],
        sections=section_states(site),
        figures={panel.name: panel for panel in panels(site)},
        states=[s.value for s in State],
        matrix=site_matrix(site),
        robots=_robots(site),
        sitemaps=sitemap_states(site),
        flow=link_flow(site),
        plural=plural,
        explains=explains,
        script=Markup(files("indrel.reports.page").joinpath("page.js").read_text("utf-8")),
        data=as_data({str(c.rank): _rows(c, site.base_origin) for c in verdict.causes if c.count > 1}),
        urls=as_data(searched(site, verdict)),
    )


def lead(verdict: Verdict) -> list[str]:
    """Three sentences for a reader who knows no term: what is at stake, the most important problem, and who can fix it."""
    told = verdict.headline
    if told.whole:
        first = "Search engines cannot show all of this site."
    elif not told.wanted:
        first = "No page of this site is known to be wanted in search."
    elif told.lost:
        first = (
            f"{told.lost:,} of {plural(told.wanted, 'page')} that should appear in search results cannot appear there."
        )
    else:
        first = f"{plural(told.wanted, 'page')} that should appear in search results can appear there."
    if told.exposed and not told.whole:
        first += f" {plural(told.exposed, 'page')} that should not appear {verb(told.exposed, 'can', 'can')}."
    serious = [c for c in verdict.causes if c.severity is not Severity.NOTE and not c.accepted]
    if not serious:
        return [first, "Nothing needs to be fixed."]
    worst = serious[0]
    evidence = worst.findings[0].evidence[0] if worst.findings[0].evidence else None
    place = f" Where: {evidence.where}{f', line {evidence.line}' if evidence.line else ''}." if evidence else ""
    return [first, f"The most important problem: {said_of(worst)}{place}", f"It can be fixed by {who_can_fix(worst)}."]


def searched(site: Site, verdict: Verdict) -> dict[str, list[Any]]:
    """Every URL with its explanation in few words, for the search box: states, reasons and checks are named once."""
    names: dict[str, dict[str, int]] = {"states": {}, "reasons": {}, "checks": {}}

    def number(kind: str, text: str) -> int:
        return names[kind].setdefault(text, len(names[kind]))

    rows: list[list[Any]] = []
    every = verdict.addresses <= SEARCHED
    for row in listed(site):
        if not row.states or not (every or row.checks):
            continue
        groups: dict[str, list[str]] = {}
        for crawler, state in row.states.items():
            groups.setdefault(state, []).append(crawler)
        states = "; ".join(
            f"{s} ({GLOSSES[State(s)]})" + ("" if len(groups) == 1 else f" for {', '.join(who)}")
            for s, who in groups.items()
        )
        by = "; ".join(
            dict.fromkeys(
                f"{short(b.place, site.base_origin)} {b.text}" if b.where != row.url else b.text for b in row.by
            )
        )
        rows.append([
            safe(row.url), number("states", states), number("reasons", safe(by)), row.want if row.stated else f"({row.want})",
            [number("checks", check) for check in row.checks], safe(row.folds_into or ""),
        ])  # fmt: skip
    about = checks()
    return {
        "states": list(names["states"]), "reasons": list(names["reasons"]),
        "checks": [[name, about[name].summary if name in about else ""] for name in names["checks"]], "rows": rows,
    }  # fmt: skip


def _shares(states: dict[str, int], seen: dict[str, str]) -> list[tuple[str, int, str]]:
    """Each state with its number of URLs, and the text shown for it: folded ones as redirect / canonical."""
    return [(s.value, states[s.value], seen[s.value]) for s in reversed(State) if states.get(s.value)]


def _groups(verdict: Verdict, site: Site) -> Iterator[dict[str, Any]]:
    """Causes by severity, each with everything that its card shows."""
    for severity in Severity:
        causes = [c for c in verdict.causes if c.severity is severity and not c.accepted]
        if causes:
            yield {
                "word": severity.word,
                "title": HEADINGS[severity],
                "cards": [
                    _card(c, site.base_origin, verdict) | {"view": _view(site, c), "joined": verdict.joined(c)}
                    for c in causes
                ],
            }


def _card(cause: Cause, origin: str, verdict: Verdict) -> dict[str, Any]:
    first = cause.findings[0]
    return {
        "cause": cause, "fix": cause.fix, "about": checks()[cause.check], "what": said_of(cause), "who": who_can_fix(cause),
        "crawlers": first.crawlers, "evidence": [(short(e.where, origin), e.line, e.text) for e in first.evidence[:4]],
        "rows": [(f.url, short(f.url, origin), f.message) for f in cause.findings[:SHOWN]], "more": cause.count > SHOWN,
        "new": bool(verdict.baseline) and any(verdict.is_new(f) for f in cause.findings),
        "others": [short(u, origin) for u in cause.others],
    }  # fmt: skip


def _view(site: Site, cause: Cause) -> dict[str, Any] | None:
    """A page as served and as rendered, if the cause is about rendered pages."""
    if Need.RENDERED not in checks()[cause.check].needs or (number := site.id_of(cause.findings[0].url)) is None:
        return None
    found = views(site, number)
    if not found or found[0].outcome == "none":
        return None
    one = found[0]
    return {
        "rows": compared(one),
        "requests": [(r, words_for(r)) for r in one.requests[:8]],
        "picture": base64.b64encode(one.picture).decode() if one.picture else None,
    }


def _rows(cause: Cause, origin: str) -> list[list[object]]:
    """The URLs of a cause with their messages, for the page's script."""
    rows: list[list[object]] = []
    for finding in cause.findings:
        first = finding.evidence[0] if finding.evidence else None
        where = f"{short(first.where, origin)}:{first.line or ''} {first.text}" if first else ""
        rows.append([safe(finding.url), safe(finding.message), safe(where)])
    return rows


def _robots(site: Site) -> list[tuple[int, str, str]]:
    """robots.txt of the main host line by line, with what each rule does to the known URLs."""
    host = site.robots.get(site.base_origin)
    if host is None or not host.known or host.access is not Access.RULES:
        return []
    does: dict[int, list[str]] = {}
    for use in rule_uses(site, host):
        does_it = "allows" if use.rule.allow else "blocks"
        wanted = f", {use.wanted:,} wanted" if use.wanted and not use.rule.allow else ""
        told = (
            f"{does_it} {use.decides:,}{wanted} ({use.group})" if use.decides else f"decides no known URL ({use.group})"
        )
        does.setdefault(use.rule.line, []).append(told)
    lines = host.body[:200_000].decode("utf-8-sig", "replace").splitlines()[:LINES]
    return [(number, text, "; ".join(does.get(number, []))) for number, text in enumerate(lines, 1)]
