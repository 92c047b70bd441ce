"""`indrel report`: reports again from a snapshot."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from indrel.cli import options as opt
from indrel.cli.console import say
from indrel.cli.output_option import REPORTS
from indrel.cli.snapshots import opened


def report(
    output: Annotated[
        list[Path],
        typer.Option(
            "-o",
            "--output",
            metavar="FILE",
            help="Write a report (.html .json .csv .xlsx .md .sarif .png .svg); may be repeated.",
        ),
    ],
    since: Annotated[
        Path | None,
        typer.Option(
            "--since",
            metavar="SNAPSHOT",
            help="What changed since this audit instead (.html .xlsx .md .csv).",
            show_default=False,
        ),
    ] = None,
    book: Annotated[
        Path | None,
        typer.Option("--ledger", metavar="FILE", help="With --since: the ledger.", show_default="indrel.ledger"),
    ] = None,
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Write reports from a snapshot, without fetching anything."""
    from indrel import reports
    from indrel.checks import verdict_of

    reports.check_endings(output, REPORTS if since else reports.WRITERS)
    if since:
        _changes(output, since, book, from_snapshot or snapshot, crawler, intent, quiet)
        return
    with opened(from_snapshot or snapshot, crawler, quiet, intent) as site:
        verdict = verdict_of(site)
        reports.write(output, verdict, site)
    for file in output:
        say(f"written: {file}", quiet)
    if verdict.crashed:
        say(f"indrel: the check {verdict.crashed[0].check} crashed, so its findings are missing")
        raise typer.Exit(3)


def _changes(
    output: list[Path], since: Path, book: Path | None, snapshot: Path | None, crawler: list[str] | None, intent: Path | None,
    quiet: bool,
) -> None:  # fmt: skip
    """Write what changed since an earlier audit."""
    from indrel import pipeline
    from indrel.ask.compare import compare
    from indrel.cli.compare import write_changes

    with opened(snapshot, crawler, quiet, intent) as after:
        before = pipeline.open_site(since, [c.token for c in after.crawlers], after.intent)
        try:
            write_changes(output, compare(before, after), before, after, book)
        finally:
            before.close()
    for file in output:
        say(f"written: {file}", quiet)
