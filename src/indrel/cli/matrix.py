"""`indrel robots matrix`: who may read what, one row per crawler."""

from __future__ import annotations

import json as json_module
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.base.tables import csv_bytes
from indrel.cli import options as opt
from indrel.cli.console import say, terminal, write_json
from indrel.cli.snapshots import OWN, newest

if TYPE_CHECKING:
    from indrel.decide.matrix import MatrixRow
    from indrel.decide.site import Site
    from indrel.sources.options import GatherOptions

ENDINGS = (".csv", ".json", ".png", ".svg")
FEW = 6
"""Lines of a crawler's rules that are shown in a terminal."""


def matrix(
    file: Annotated[
        str | None,
        typer.Argument(
            metavar="[FILE_OR_URL]",
            help="A robots.txt: a file, a URL, a snapshot, the word `snapshot`, or - for standard input.",
            show_default="that of the audit",
        ),
    ] = None,
    snapshot: Annotated[
        Path | None,
        typer.Option("--from", metavar="SNAPSHOT", help="The audit whose URLs and robots.txt are used."),
    ] = None,
    output: Annotated[
        list[Path] | None,
        typer.Option("-o", "--output", metavar="FILE", help="Write a file (.csv .json .png .svg). Repeatable."),
    ] = None,
    json: opt.JsonOption = False,
    connect: opt.ConnectOption = None,
    timeout: opt.TimeoutOption = 20.0,
    quiet: opt.QuietOption = False,
) -> None:
    """Show which crawler may read what.

    One row per crawler: its purpose, its share of the site, its group, and the lines that decide.
    """
    from indrel import pipeline
    from indrel.base.extras import require
    from indrel.base.files import is_snapshot
    from indrel.checks.headline import spoken_of
    from indrel.sources.options import GatherOptions

    for one in output or ():
        if one.suffix.lower() not in ENDINGS:
            raise UsageError(f"{one}: a matrix can be written as {', '.join(ENDINGS)}")
        if one.suffix.lower() in (".png", ".svg"):
            require("matplotlib", str(one))
    site = None
    if file == OWN:
        file = None
    if file and snapshot is None and is_snapshot(file):
        snapshot, file = Path(file), None
    if snapshot or file is None:
        site = pipeline.open_site(snapshot or newest(quiet=quiet), None)
    try:
        options = GatherOptions(crawlers=(), rate=0, timeout=timeout, connect=opt.parse_connect(connect))
        rows = _rows(site, file, options)
        subject = (
            (spoken_of(site) + (f", {file}" if file else ""))
            if site
            else "standard input"
            if file == "-"
            else str(file)
        )
    finally:
        if site:
            site.close()
    for one in output or ():
        _write(one, rows, subject)
        say(f"written: {one}", quiet)
    if json:
        for row in rows:
            write_json(row.as_json())
    elif not output:
        _show(rows, subject)


def _rows(site: Site | None, file: str | None, options: GatherOptions) -> list[MatrixRow]:
    from indrel.ask.robots.loaded import load
    from indrel.decide.matrix import matrix_of, site_matrix

    if file is not None:
        return matrix_of(load(file, options).verdict, site)
    rows = site_matrix(site) if site else []
    if not rows:
        raise UsageError("robots.txt is unknown in this audit: name a file or a URL")
    return rows


def sentence(rows: Sequence[MatrixRow]) -> str:
    """How many crawlers may read everything, a part, nothing."""
    counts = Counter(row.reads for row in rows)
    parts = [f"{counts[w]:,} {w if w != 'part' else 'a part'}" for w in ("everything", "part", "nothing") if counts[w]]
    shut = [row.crawlers[0] for row in rows if row.reads == "nothing"]
    if len(parts) == 1:
        return f"all {len(rows):,} crawlers may read {parts[0].split(' ', 1)[1]}"
    named = f" ({', '.join(shut)})" if 0 < len(shut) <= FEW else ""
    return f"{', '.join(parts).replace(' ', f' of {len(rows):,} crawlers may read ', 1)}{named}"


def _show(rows: Sequence[MatrixRow], subject: str) -> None:
    from indrel.core.model import plural
    from indrel.reports.columns import table

    term = terminal()
    term.line(f"{subject}: {sentence(rows)}.", "bold")
    general = next(row for row in rows if row.purpose == "all others")
    cells = []
    for row in rows:
        reads = row.reads if row.barred is None or row.reads != "part" else f"{1 - row.barred:.0%}"
        if row is not general and not row.differs:
            why = "as *"
        elif row.lines:
            told = ", ".join(f"{text} ({line})" for line, text in row.lines[:FEW])
            more = f" and {plural(len(row.lines) - FEW, 'more line')}" if len(row.lines) > FEW else ""
            why = f"{told}{more}"
        else:
            why = "no group applies"
            if row.group:
                what = "anything" if row.barred is None else "a known URL"
                why = f"{plural(row.rules, 'rule')}, none blocks {what}" if row.rules else "the group has no rule"
        cells.append([row.crawlers[0], row.purpose, reads, row.group or "none", why])
    term.console.print()
    styles = {"nothing": "magenta", "part": "yellow"}
    table(term, ["crawler", "purpose", "may read", "group", "blocked by (line)"], cells, styles)


def _write(file: Path, rows: Sequence[MatrixRow], subject: str) -> None:
    from indrel.base.files import write_whole

    ending = file.suffix.lower()
    if ending == ".json":
        content = "".join(json_module.dumps(row.as_json(), ensure_ascii=False) + "\n" for row in rows).encode()
    elif ending == ".csv":
        heads = ("crawler", "purpose", "reads", "barred", "group", "lines", "rules", "sections")
        content = csv_bytes(
            heads,
            (
                (
                    row.crawlers[0], row.purpose, row.reads, row.barred, row.group or "", " ".join(str(line) for line, _ in row.lines),
                    "; ".join(text for _, text in row.lines), "; ".join(f"{name} {share:.0%}" for name, share in row.sections.items()),
                )
                for row in rows
            ),
        )  # fmt: skip
    else:
        from indrel.reports.figures import matrix_figure

        content = matrix_figure(rows, subject, sentence(rows).partition(" (")[0], ending[1:])
    write_whole(file, content)
