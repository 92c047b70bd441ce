"""`indrel explain`: one URL, step by step."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.cli import options as opt
from indrel.cli.console import terminal, write_json
from indrel.cli.output_option import answers
from indrel.cli.snapshots import opened

if TYPE_CHECKING:
    from indrel.ask.explanation import Explanation
    from indrel.core.model import Finding
    from indrel.reports.terminal import Terminal


SEEN = {"empty": "an empty page", "error": "an error"}
"""What a rendering crawler sees of a page that fails, in words."""


@answers
def explain_address(
    urls: Annotated[list[str], typer.Argument(metavar="URL...", help="URLs, or paths on the snapshot's site.")],
    snapshot: opt.FromOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    picture: Annotated[
        Path | None,
        typer.Option("--picture", metavar="FILE.webp", help="Write the picture of the page that --render took."),
    ] = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Explain URLs: their state for each crawler, each step that led to it, and what would change it."""
    from indrel import pipeline
    from indrel.ask.explain import explain
    from indrel.base.errors import UsageError
    from indrel.base.files import is_snapshot
    from indrel.checks import findings_of
    from indrel.checks.headline import spoken_of
    from indrel.snapshot.selection import SUFFIX

    named = [
        url for url in urls if is_snapshot(url) or url.endswith(SUFFIX)
    ]  # the snapshot before or after the URL, as in other commands
    wanted = [url for url in urls if url not in named]
    if not wanted:
        raise UsageError("name a URL, or a path on the snapshot's site")
    snapshot = snapshot or (Path(named[0]) if named else None)
    with opened(snapshot, crawler, quiet, intent, wanted[0]) as site:
        for number, url in enumerate(wanted):
            address = pipeline.page_address(url, site)
            found = explain(site, address, findings_of(site, address))
            if picture:
                _write_picture(picture, found)
            if json:
                write_json(found.as_json())
                continue
            if number:
                terminal().line("\n" + "-" * 60, "dim")
            _show(terminal(), found, site.base_origin, spoken_of(site))


def _write_picture(file: Path, found: Explanation) -> None:
    """Raises UsageError if no picture of it was kept."""
    from indrel.base.errors import UsageError
    from indrel.base.files import write_whole

    taken = next((v.picture for v in found.views if v.picture), None)
    if taken is None:
        seen = (
            "no picture of it was kept: use --render-pictures"
            if found.views
            else "it was not rendered: use --render=all"
        )
        raise UsageError(f"{found.url}: {seen} when auditing")
    write_whole(file, taken)


def _rendered(term: Terminal, found: Explanation, origin: str) -> None:
    """Served and rendered side by side, and the requests of the page that failed."""
    from indrel.ask.rendered_view import compared, words_for
    from indrel.reports.terminal import short

    for view in found.views:
        names = "" if len(found.views) == 1 else f" for {', '.join(view.crawlers)}"
        outcome = {"ok": "the page works", "empty": "the page is empty", "error": "the page shows an error"}.get(
            view.outcome, f"could not be rendered ({view.why})"
        )
        term.console.print()
        term.line(f"rendered{names}: {outcome}", "bold")
        for name, served, rendered in compared(view) if view.outcome != "none" else ():
            if not served:
                term.line(f"{name:<11}{rendered}", indent=2, hang=13)
                continue
            same = served == rendered
            term.line(f"{name:<11}{served}" + ("" if same else "  (served)"), "dim" if same else "", indent=2, hang=13)
            if not same:
                term.line(f"{'':<11}{rendered}  (rendered)", indent=2, hang=13)
        if view.after_visit == "ok":
            term.line(f"{'visit':<11}the page works after a visit to the home page", indent=2, hang=13)
        for name, urls in (
            ("links only served", view.only_served), ("links only rendered", view.only_rendered),
            ("links only after scrolling or a click", view.only_later),
        ):  # fmt: skip
            if urls:
                term.line(f"{name}: {', '.join(short(u, origin) for u in urls)}", indent=2, hang=13)
        for request in view.requests:
            term.line(f"{request.kind} {short(request.url, origin)}: {words_for(request)}", indent=2, hang=13)


def _show(term: Terminal, found: Explanation, origin: str, subject: str) -> None:
    from indrel.base.readable import readable
    from indrel.reports.terminal import STATE_STYLES, STYLES, short

    states = dict.fromkeys(found.states.values())
    if found.file:
        said = found.file
    elif len(states) == 1:
        said = next(iter(states)) + " for every audited crawler"
    else:
        said = ", ".join(f"{state} for {crawler}" for crawler, state in found.states.items())
    seen = {v.outcome for v in found.views} & set(SEEN)
    said += f"; a rendering crawler sees {SEEN[max(seen)]}" if seen else ""
    term.line(f"{subject}: {readable(found.url)} is {said}.", "bold")
    if found.near:
        meant = " or ".join(short(url, origin) for url in found.near)
        term.line(f"This audit does not know it; {meant} is known: did you mean that?", "yellow")
    term.line(f"wanted: {found.want} ({found.want_because})")
    if found.shadowed:
        term.line("overruled: " + "; ".join(f"line {e.line}: {e.text}" for e in found.shadowed), "dim", hang=11)
    because = f" ({found.kind_because})" if found.kind_because else ""
    term.line(f"kind: {found.kind}{because}; section {found.section}")
    for names, steps in _alike(found):
        term.console.print()
        term.line(", ".join(names), "bold")
        for number, step in enumerate(steps, 1):
            style = STATE_STYLES.get(step.outcome.partition(":")[0], "") if step.step == "state" else ""
            style = "green" if step.step == "change" else style
            outcome = step.outcome.replace(origin + "/", "/") if step.step == "change" else step.outcome
            term.line(f"{number}. {step.step:<12}{outcome}", style, indent=2, hang=15)
            for evidence in step.evidence if step.step != "change" else ():  # its text names the place
                word = "set by" if step.step in ("rule", "directives", "canonical", "state") else "see"
                term.evidence(evidence, origin, indent=17, whole=True, word=word)
    _rendered(term, found, origin)
    _relations(term, found, origin)
    if found.findings:
        term.console.print()
    for finding in found.findings:
        about = "" if finding.url == found.url else f"{short(finding.url, origin)}: "
        term.line(
            f"{finding.severity.word}: {about}{finding.message}  {finding.check}{_follows(finding)}",
            STYLES[finding.severity],
            hang=2,
        )


def _follows(finding: Finding) -> str:
    return f", follows from {finding.follows[:5]}" if finding.follows else ""


def _alike(found: Explanation) -> list[tuple[list[str], list]]:  # type: ignore[type-arg]
    """Crawlers with the same steps, shown once."""
    from indrel.ask.explain import NOT_NAMED

    groups: dict[str, tuple[list[str], list]] = {}  # type: ignore[type-arg]
    for crawler, steps in found.steps.items():
        key = json_module.dumps([s.as_json() for s in steps]).replace(NOT_NAMED, "")
        groups.setdefault(key, ([], steps))[0].append(crawler)
    return list(groups.values())


def _relations(term: Terminal, found: Explanation, origin: str) -> None:
    from indrel.checks.measures import A_SHARE, MANY
    from indrel.core.model import plural
    from indrel.reports.terminal import short

    term.console.print()
    followed, unfollowed = found.link_count
    links = (
        f"linked: {followed:,} followed, {unfollowed:,} nofollow"
        if followed + unfollowed
        else "linked: no page that was read links to it"
    )
    if found.known:
        depth = (
            "not reached by followed links"
            if found.clicks is None
            else f"{plural(found.clicks, 'click')} from the home page"
        )
        links += f"; {depth}"
        links += (
            f"; a template link, on {found.template:.0%} of the pages read"
            if found.template > A_SHARE and followed + unfollowed > MANY
            else ""
        )
    term.line(links)
    for evidence in found.linked_from[:5]:
        term.evidence(evidence, origin, indent=2, whole=True, word="see")
    term.line("sitemap: not in any sitemap" if not found.listed_in else "sitemap:")
    for evidence in found.listed_in[:5]:
        term.evidence(evidence, origin, indent=2, whole=True, word="see")
    if found.folds_into:
        term.line(f"leads to: {short(found.folds_into, origin)}")
    if found.folded_here:
        rest = found.folded_count - len(found.folded_here[:5])
        more = f" and {rest:,} more" if rest > 0 else ""
        term.line(f"represents: {', '.join(short(u, origin) for u in found.folded_here[:5])}{more}", hang=12)
