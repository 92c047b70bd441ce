"""The verdict as one HTML page: self-contained, no outside request, every text of the site escaped."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from importlib.resources import files
from typing import Any

import jinja2
from markupsafe import Markup

from indrel.ask.rendered_view import compared, views, words_for
from indrel.base.plain import safe
from indrel.base.version import __version__
from indrel.checks import checks
from indrel.checks.catalogue import Need
from indrel.checks.topics.robots_reach import rule_uses
from indrel.core.model import Cause, Severity, State, Verdict, plural
from indrel.core.robots import Access
from indrel.decide.flow import link_flow
from indrel.decide.matrix import site_matrix
from indrel.decide.place import section_states
from indrel.decide.site import Site
from indrel.decide.sitemaps import sitemap_states
from indrel.reports.panels import panels
from indrel.reports.terminal import HEADINGS, host_of, sentence, short

SHOWN = 10
"""Addresses of a cause that stand in the page itself; the others come from its data when they are asked for."""

LINES = 400
"""Lines of robots.txt that are shown."""

_SCRIPT = str.maketrans({"<": "\\u003c", ">": "\\u003e", "&": "\\u0026", "\u2028": "\\u2028", "\u2029": "\\u2029"})


def as_data(value: object) -> Markup:
    """A value as JSON that may stand in a script element: nothing in it ends the element."""
    return Markup(json.dumps(value, ensure_ascii=False, separators=(",", ":")).translate(_SCRIPT))


def visible(value: object) -> str:
    """A text with control characters and direction marks made visible; the template escapes it."""
    return safe(str(value))


def is_address(value: str) -> bool:
    return value.startswith(("http://", "https://"))


def render(verdict: Verdict, site: Site) -> bytes:
    environment = jinja2.Environment(
        autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters |= {"visible": visible, "grouped": lambda n: f"{n:,}", "percent": lambda n: f"{n:.1%}"}
    environment.tests["address"] = is_address
    folder = files("indrel.reports.page")
    template = environment.from_string(folder.joinpath("page.html.j2").read_text("utf-8"))
    page = template.render(
        version=__version__,
        host=host_of(verdict),
        sentence=sentence(verdict),
        verdict=verdict,
        first=next((c for c in verdict.causes if c.severity in (Severity.STOP, Severity.FIX) and not c.accepted), None),
        bars=[(crawler, _shares(states)) for crawler, states in verdict.states.items()],
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
        style=Markup(folder.joinpath("page.css").read_text("utf-8")),
        script=Markup(folder.joinpath("page.js").read_text("utf-8")),
        data=as_data({str(c.rank): _rows(c, site.base_origin) for c in verdict.causes if c.count > 1}),
    )
    return page.encode("utf-8", "backslashreplace")


def _shares(states: dict[str, int]) -> list[tuple[str, int, float]]:
    total = sum(states.values()) or 1
    return [(s.value, states[s.value], 100 * states[s.value] / total) for s in reversed(State) if states.get(s.value)]


def _groups(verdict: Verdict, site: Site) -> Iterator[dict[str, Any]]:
    """Causes by severity, each with all that its card shows."""
    for severity in Severity:
        causes = [c for c in verdict.causes if c.severity is severity and not c.accepted]
        if causes:
            yield {
                "word": severity.word,
                "title": HEADINGS[severity],
                "cards": [_card(c, site.base_origin, verdict) | {"view": _view(site, c)} for c in causes],
            }


def _card(cause: Cause, origin: str, verdict: Verdict) -> dict[str, Any]:
    first = cause.findings[0]
    return {
        "cause": cause, "about": checks()[cause.check], "what": first.message if cause.count == 1 else cause.summary,
        "crawlers": first.crawlers, "evidence": [(short(e.where, origin), e.line, e.text) for e in first.evidence[:4]],
        "rows": [(f.url, short(f.url, origin), f.message) for f in cause.findings[:SHOWN]], "more": cause.count > SHOWN,
        "new": bool(verdict.baseline) and any(verdict.is_new(f) for f in cause.findings),
        "others": [short(u, origin) for u in cause.others],
    }  # fmt: skip


def _view(site: Site, cause: Cause) -> dict[str, Any] | None:
    """A page as served and as rendered, where a cause is of pages that were looked at with a browser."""
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
    """The addresses of a cause with what is reported of each, for the page's script."""
    rows: list[list[object]] = []
    for finding in cause.findings:
        first = finding.evidence[0] if finding.evidence else None
        where = f"{short(first.where, origin)}:{first.line or ''} {first.text}" if first else ""
        rows.append([safe(finding.url), safe(finding.message), safe(where)])
    return rows


def _robots(site: Site) -> list[tuple[int, str, str]]:
    """robots.txt of the main host line by line, with what each rule does to the known addresses."""
    host = site.robots.get(site.base_origin)
    if host is None or not host.known or host.access is not Access.RULES:
        return []
    does: dict[int, list[str]] = {}
    for use in rule_uses(site, host):
        verb = "lets" if use.rule.allow else "bars"
        wanted = f", {use.wanted:,} wanted" if use.wanted and not use.rule.allow else ""
        told = (
            f"{verb} {use.decides:,}{wanted} ({use.group})" if use.decides else f"decides nothing known ({use.group})"
        )
        does.setdefault(use.rule.line, []).append(told)
    lines = host.body[:200_000].decode("utf-8-sig", "replace").splitlines()[:LINES]
    return [(number, text, "; ".join(does.get(number, []))) for number, text in enumerate(lines, 1)]
