"""`indrel sitemap`: sitemaps on their own."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.cli import options as opt
from indrel.cli.checked import code_of
from indrel.cli.console import say, terminal, write_json
from indrel.cli.gathering import pace_before
from indrel.cli.help import Command
from indrel.cli.output_option import answers

if TYPE_CHECKING:
    from indrel.ask.sitemap import CheckedSitemaps

sitemap = typer.Typer(help="Check sitemap files.", no_args_is_help=True, rich_markup_mode=None)


@sitemap.callback()
def _group() -> None:
    """Check sitemap files."""


@sitemap.command("check", cls=Command)
@answers
def check(
    files: Annotated[
        list[str],
        typer.Argument(metavar="FILE_OR_URL...", help="Sitemaps or indexes: files, URLs, or - for standard input."),
    ],
    snapshot: Annotated[
        Path | None, typer.Option("--from", metavar="SNAPSHOT", help="Also check each entry against this audit.")
    ] = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    fail_on: opt.FailOnOption = "fix",
    connect: opt.ConnectOption = None,
    timeout: opt.TimeoutOption = 20.0,
    quiet: opt.QuietOption = False,
) -> None:
    """Check sitemaps: each problem with file and line.

    The files that an index lists are checked too. With --from, each entry is compared with an audit, and a path such as
    /sitemap.xml is one on its site.
    """
    from indrel import pipeline
    from indrel.ask import sitemap as tool
    from indrel.core import crawlers
    from indrel.core.address import normalise
    from indrel.core.model import plural
    from indrel.snapshot import Snapshot
    from indrel.sources.options import GatherOptions

    opt.fail_word(fail_on)
    wants = pipeline.load_intent(intent)
    chosen = crawlers.resolve(crawler or wants.crawlers or crawlers.DEFAULT)
    rate = 0.0
    if snapshot and any("://" in file or _is_path(file) for file in files):
        with Snapshot(snapshot) as audited:
            rate = pace_before(audited.meta, connect, None)
            base = str(audited.meta["base"])
        files = [(normalise(file, base) or file) if _is_path(file) else file for file in files]
    wanted = GatherOptions(crawlers=(), rate=rate, timeout=timeout, connect=opt.parse_connect(connect))
    codes = []
    for file in files:
        checked = tool.check(file, chosen, wanted, snapshot, wants)
        if json:
            write_json(checked.as_json())
        else:
            _show(checked, file)
        if checked.unread:
            say(f"{plural(len(checked.unread), 'listed sitemap')} not read, such as {checked.unread[0]}", quiet)
        codes.append(code_of(checked.findings, checked.crashed, fail_on))
    if snapshot is None:
        say("add --from SNAPSHOT to check each entry against an audit", quiet)
    raise typer.Exit(max(codes))


def _is_path(file: str) -> bool:
    """Whether it is a path on the audited site, and no file here."""
    return file.startswith("/") and not Path(file).exists()


def _show(checked: CheckedSitemaps, named: str) -> None:
    from indrel.checks.causes import gather_causes
    from indrel.core.model import plural
    from indrel.reports.terminal import to_do

    term = terminal()
    said = to_do(f.severity for f in checked.findings)
    entries = sum(f.entries for f in checked.files if f.kind != "index")
    where = f"in {plural(len(checked.files), 'file')}" if len(checked.files) > 1 else f"({checked.files[0].kind})"
    against = f" against {checked.audit}" if checked.audit else ""
    term.line(f"{named}{against}: {said or 'no findings'}; {plural(entries, 'entry', 'entries')} {where}.", "bold")
    if checked.states:
        shares = [f"{state} {count:,}" for state, count in sorted(checked.states.items(), key=lambda pair: -pair[1])]
        term.line("in the audit: " + ", ".join(shares))
    for cause in gather_causes(checked.findings)[1]:
        term.console.print()
        term.cause(cause, "")
