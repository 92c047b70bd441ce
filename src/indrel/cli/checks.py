"""`indrel checks`: the catalogue."""

from __future__ import annotations

from typing import Annotated

import typer

from indrel.base.tables import csv_bytes
from indrel.cli import complete
from indrel.cli import options as opt
from indrel.cli.console import out_console, terminal, write_json
from indrel.cli.output_option import answers


@answers
def show_checks(
    id: Annotated[
        str | None,
        typer.Argument(metavar="ID", help="A check.", show_default="all", autocompletion=complete.checks),
    ] = None,
    json: opt.JsonOption = False,
    csv: bool = False,
) -> None:
    """Show the catalogue of checks, or one check in full: why it matters, how to fix it, and its source."""
    from indrel.checks import checks
    from indrel.reports.columns import table
    from indrel.reports.terminal import STYLES

    known = checks()
    opt.check_ids([id] if id else None)
    chosen = [known[id]] if id else list(known.values())
    if json:
        for one in chosen:
            document = {
                "id": one.id, "class": one.cls.value, "severity": one.severity.word, "topic": one.topic,
                "summary": one.summary, "why": one.why, "mend": one.mend, "rests_on": one.rests_on,
                "evidence": one.evidence, "needs": list(one.needs),
            }  # fmt: skip
            write_json(document)
        return
    if csv:
        heads = ["check", "class", "severity", "summary", "why", "fix", "source"]
        rows = [[c.id, c.cls.value, c.severity.word, c.summary, c.why, c.mend, c.rests_on] for c in chosen]
        out_console().file.write(csv_bytes(heads, rows).decode())
        return
    term = terminal()
    if id is None:
        rows = [[c.id, c.cls.value, c.severity.word, c.summary] for c in chosen]
        table(term, ["check", "class", "severity", "true when"], rows, {s.word: style for s, style in STYLES.items()})
        return
    one = chosen[0]
    term.pieces((one.id, "bold"), (f"   {one.cls.value}, {one.severity.word}", STYLES[one.severity]))
    term.line(one.summary)
    for head, text in (("Why", one.why), ("Fix", one.mend), ("Source", one.rests_on), ("Evidence", one.evidence)):
        term.line(f"{head:<10}{text}", hang=10)
    if one.needs:
        term.line(f"{'Needs':<10}{', '.join(one.needs)}", hang=10)
    if one.rests_on_want:
        term.line("One severity lower if the want is only inferred.")
