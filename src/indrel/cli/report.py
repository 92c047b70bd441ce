"""`indrel report`: reports again from a snapshot."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from indrel.cli import options as opt
from indrel.cli.console import say
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
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Write reports from a snapshot, without fetching anything."""
    from indrel import reports
    from indrel.checks import verdict_of

    reports.check_endings(output)
    with opened(from_snapshot or snapshot, crawler, quiet, intent) as site:
        verdict = verdict_of(site)
        reports.write(output, verdict, site)
    for file in output:
        say(f"written: {file}", quiet)
    if verdict.crashed:
        say(f"indrel: the check {verdict.crashed[0].check} crashed, so its findings are missing")
        raise typer.Exit(3)
