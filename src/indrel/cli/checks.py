"""`indrel checks`: the catalogue."""

from __future__ import annotations

from typing import Annotated

import typer

from indrel.cli import complete
from indrel.cli import options as opt
from indrel.cli.console import terminal, write_json
from indrel.cli.output_option import answers


@answers
def show_checks(
    id: Annotated[
        str | None,
        typer.Argument(
            metavar="ID", help="A check; all if left out.", show_default=False, autocompletion=complete.checks
        ),
    ] = None,
    json: opt.JsonOption = False,
) -> None:
    """Show the catalogue of checks, or one check whole: why it matters, how to fix it, what it rests on."""
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
    term = terminal()
    if id is None:
        rows = [[c.id, c.cls.value, c.severity.word, c.summary] for c in chosen]
        table(term, ["check", "class", "severity", "true when"], rows, {s.word: style for s, style in STYLES.items()})
        return
    one = chosen[0]
    term.pieces((one.id, "bold"), (f"   {one.cls.value}, {one.severity.word}", STYLES[one.severity]))
    term.line(one.summary)
    for head, text in (("Why", one.why), ("Mend", one.mend), ("Rests on", one.rests_on), ("Evidence", one.evidence)):
        term.line(f"{head:<10}{text}", hang=10)
    if one.needs:
        term.line(f"{'Needs':<10}{', '.join(one.needs)}", hang=10)
    if one.rests_on_want:
        term.line("One step milder where the want is only implied.")
