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
    from indrel.ask.recheck import Rechecked
    from indrel.pipeline import Gathered

FEW = 20


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
    from indrel.ask import recheck as again
    from indrel.ask.unknown import Unasked, Unreadable
    from indrel.core.address import split

    opt.check_ids(check)
    opt.fail_word(fail_on)
    words = [text for text in (str(snapshot) if snapshot else None, *(urls or ())) if text]
    if snapshot is not None and (from_snapshot is not None or not snapshot.is_file()):
        snapshot, urls = None, words  # the first argument is a URL
    path = from_snapshot or snapshot or newest(quiet=quiet)
    wants = pipeline.load_intent(intent)
    site, verdict = pipeline.examine(path, None, wants)
    named = [pipeline.page_address(text, site) for text in urls or ()]
    stood = list(verdict.findings)
    before = again.chosen(stood, check or (), again.causes_named(verdict.causes, cause or ()), named)
    asked = again.addresses(site, before, named)
    unread_then = again.unread(site, asked)
    picked = set(before)
    before = [f for f in stood if not f.accepted and (f in picked or f.url in asked)]
    host, origin = split(site.base).host, site.base_origin
    read_barred, as_crawlers = bool(site.meta.get("read_barred")), bool(site.meta.get("as_crawlers"))
    crawlers = [c.token for c in site.crawlers]
    render = _can_render(given["browser"], quiet) if site.meta.get("rendered") else None
    given = {**given, "rate": pace_before(site.meta, given["connect"], given["headers"], given["rate"])}
    site.close()
    if not before and not named:
        raise UsageError(f"{path} has no such finding: there is nothing to fetch again")
    progress = ProgressLine(quiet)
    options = gather_options(
        given, crawlers, site.intent, follow_links=False, read_barred=read_barred, as_crawlers=as_crawlers, render=render,
        progress=progress,
    )  # fmt: skip
    gathered = pipeline.ask_again(path, keep or pipeline.new_snapshot_path(host), asked, options)
    progress.clear()
    later, after = pipeline.examine(gathered.snapshot, crawlers, wants)
    readable, unasked = Unreadable(later), Unasked(later)
    unread, unseen = readable.why(asked), readable.of(before, str)
    there = [f for f in after.findings if not f.accepted]
    found = again.held(
        before, there, asked, unread, stood, lambda f: unseen(f) or unasked.why(f.check, f.url), unread_then
    )
    later.close()
    subject = after.headline.subject
    if json:
        write_json(found.as_json())
    else:
        _show(found, len(asked), origin, subject)
    _end(found, bool(asked), gathered, fail_on, quiet)


def _end(found: Rechecked, asked: bool, gathered: Gathered, fail_on: str, quiet: bool) -> None:
    """Say where the responses are saved, and exit with the code of the result."""
    from indrel.core.model import Severity

    say(f"snapshot saved: {gathered.snapshot}", quiet)
    if gathered.cut_short:
        say(f"indrel: {gathered.cut_short}")
        raise typer.Exit(gathered.cut_short.exit_code)
    if asked and not found.answered:
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


def _show(found: Rechecked, asked: int, origin: str, subject: str) -> None:
    from indrel.core.model import plural, verb

    term = terminal()
    term.line(
        f"{subject}: Rechecked {plural(asked, 'URL')}: {plural(len(found.mended), 'finding')} fixed, {len(found.still):,} "
        f"{verb(len(found.still), 'remains', 'remain')}, {len(found.changed):,} changed, {len(found.new):,} new, "
        f"{len(found.unknown):,} unknown.",
        "bold",
    )

    reasons: dict[str, int] = {}
    for _, why in found.unknown:
        reasons[why] = reasons.get(why, 0) + 1
    for why, count in sorted(reasons.items(), key=lambda pair: -pair[1]):
        term.line(f"unknown  {plural(count, 'finding')}: {why}", "yellow", indent=2, hang=9)
    term.by_check("Fixed", found.mended, origin, "green", FEW)
    term.by_check("Still there", found.still, origin, None, FEW)
    term.by_check("Changed", [after for _, after in found.changed], origin, None, FEW)
    term.by_check("New", found.new, origin, None, FEW)
