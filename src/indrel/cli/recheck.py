"""`indrel recheck`: fetch the pages with findings again."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import complete
from indrel.cli import options as opt
from indrel.cli.console import ProgressLine, say, terminal, write_json
from indrel.cli.gathering import NONE_GIVEN, Given, gather_options, gathers, pace_before
from indrel.cli.output_option import answers
from indrel.cli.snapshots import newest

if TYPE_CHECKING:
    from indrel.ask.recheck import Again, Rechecked
    from indrel.decide.site import Site
    from indrel.reports.terminal import Terminal
    from indrel.sources.options import GatherOptions

FEW, MOST_NAMED = 20, 3


@answers
@gathers("rate", "parallel", "timeout", "connect", "headers", "browser", "render_memory")
def recheck(
    snapshot: opt.SnapshotArgument = None,
    urls: Annotated[
        list[str] | None, typer.Argument(metavar="[URL]...", help="Only these URLs or paths.", show_default=False)
    ] = None,
    check: Annotated[
        list[str] | None,
        typer.Option("--check", metavar="ID", help="Only this check. Repeatable.", autocompletion=complete.checks),
    ] = None,
    cause: Annotated[
        list[str] | None, typer.Option("--cause", metavar="ID", help="Only this cause. Repeatable.")
    ] = None,
    intent: opt.IntentOption = None,
    keep: opt.SnapshotOption = None,
    given: Given = NONE_GIVEN,
    from_snapshot: opt.FromOption = None,
    fail_on: opt.FailOnOption = "fix",
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Fetch pages with findings again and show what is fixed; the responses are saved in a new snapshot."""
    from indrel import pipeline
    from indrel.ask.recheck import recheck as again

    opt.check_ids(check)
    opt.fail_word(fail_on)
    words = [text for text in (str(snapshot) if snapshot else None, *(urls or ())) if text]
    if snapshot is not None and (from_snapshot is not None or not snapshot.is_file()):
        snapshot, urls = None, words  # the first argument is a URL
    progress = ProgressLine(quiet)
    found = again(
        from_snapshot or snapshot or newest(quiet=quiet), keep, pipeline.load_intent(intent),
        lambda site: _options(site, given, progress, quiet), urls or (), check or (), cause or (),
    )  # fmt: skip
    progress.clear()
    if json:
        write_json(found.found.as_json())
    else:
        _show(found)
    _end(found, fail_on, quiet)


def _options(site: Site, given: Given, progress: ProgressLine, quiet: bool) -> GatherOptions:
    """As the audit was made, where nothing else is given."""
    from indrel.ask.recheck import as_before

    before: Given = {**as_before(site), **given}
    before["rate"] = pace_before(site.meta, given["connect"], given["headers"], given["rate"])
    before["render"] = before["render"] and _can_render(given["browser"], quiet)
    return gather_options(before, [c.token for c in site.crawlers], site.intent, follow_links=False, progress=progress)


def _end(again: Again, fail_on: str, quiet: bool) -> None:
    """Say where the responses are saved, and exit with the code of the result."""
    from indrel.core.model import Severity

    found, cut = again.found, again.gathered.cut_short
    say(f"snapshot saved: {again.gathered.snapshot}", quiet)
    if cut:
        say(f"indrel: {cut}")
        raise typer.Exit(cut.exit_code)
    if again.asked and not found.answered:
        say("indrel: no URL could be read, so what is fixed is unknown; try again later")
        raise typer.Exit(3)
    raise typer.Exit(1 if fail_on != "never" and found.fails(Severity[fail_on.upper()]) else 0)


def _can_render(browser: str | None, quiet: bool) -> str | None:
    """Pages that were rendered are rendered again; without a browser, those findings stay unknown."""
    from indrel.sources.browser.launch import find

    try:
        find(browser)
    except UsageError as error:
        if browser:
            raise
        say(f"findings of --render are not rechecked: {error}", quiet)
        return None
    return "all"


def _show(again: Again) -> None:
    from indrel.core.model import plural, verb

    term = terminal()
    found, origin = again.found, again.origin
    term.line(
        f"{again.site}: Rechecked {plural(again.asked, 'URL')}: {plural(len(found.mended), 'finding')} fixed, {len(found.still):,} "
        f"{verb(len(found.still), 'remains', 'remain')}, {len(found.changed):,} changed, {len(found.new):,} new, "
        f"{len(found.unknown):,} unknown.",
        "bold",
    )
    _show_states(term, found, origin)
    reasons: dict[str, int] = {}
    for _, why in found.unknown:
        reasons[why] = reasons.get(why, 0) + 1
    for why, count in sorted(reasons.items(), key=lambda pair: -pair[1]):
        term.line(f"unknown  {plural(count, 'finding')}: {why}", "yellow", indent=2, hang=9)
    term.by_check("Fixed", found.mended, origin, "green", FEW)
    term.by_check("Still there", found.still, origin, None, FEW)
    term.by_check("Changed", [after for _, after in found.changed], origin, None, FEW)
    term.by_check("New", found.new, origin, None, FEW)


def _show_states(term: Terminal, found: Rechecked, origin: str) -> None:
    """URLs whose state changed, each change once."""
    from indrel.reports.terminal import short

    changes: dict[tuple[str, str], dict[str, bool]] = {}
    for one in found.states:
        changes.setdefault((one.before, one.after), {})[short(one.url, origin)] = one.is_worse
    for (before, after), urls in changes.items():
        style = "bold red" if any(urls.values()) else "green" if after == "open" else ""
        more = " ..." if len(urls) > MOST_NAMED else ""
        what = f"{len(urls):,} × {before} to {after}: {', '.join(list(urls)[:MOST_NAMED])}{more}"
        term.line(f"state  {what}", style, indent=2, hang=7)
