"""`-o` of commands that print a result: it goes to a file, whole or not at all, instead of to standard output."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from io import StringIO
from pathlib import Path
from typing import Annotated, Any, get_type_hints

import typer

from indrel.base.errors import UsageError
from indrel.cli import console
from indrel.cli.options import QuietOption

ENDINGS = (".json", ".txt")
CSV = ".csv"
REPORTS = (".html", ".xlsx", ".md", ".csv")
"""Formats of a comparison's report."""


AnswerOption = Annotated[
    list[Path] | None,
    typer.Option(
        "-o",
        "--output",
        metavar="FILE",
        help="Write the result to a file (.json .txt) instead. Repeatable.",
        show_default=False,
    ),
]


def answers(command: Callable[..., None]) -> Callable[..., None]:
    """A command with `--json` also gets `-o` and `--quiet`; the file extension selects the format.

    A command with a parameter `csv` writes that format too; one with a parameter `reports` is given the files that it writes itself.
    """
    signature = inspect.signature(command)
    takes_quiet = "quiet" in signature.parameters
    endings = (*ENDINGS, CSV) if "csv" in signature.parameters else ENDINGS
    own = REPORTS if "reports" in signature.parameters else ()

    @functools.wraps(command)
    def run(*words: Any, output: list[Path] | None = None, quiet: bool = False, **options: Any) -> None:
        if takes_quiet:
            options["quiet"] = quiet
        if not output:
            command(*words, **options)
            return
        for file in output:
            if file.suffix.lower() not in (*endings, *own):
                raise UsageError(f"{file}: the result can be written as {' '.join((*endings, *own))}")
        printed = [file for file in output if file.suffix.lower() not in own]
        if own:
            options["reports"] = [file for file in output if file not in printed]
        if len({file.suffix.lower() for file in printed}) > 1:
            raise UsageError("-o: all files must have the same extension")
        if printed:
            options["json"] = options.get("json", False) or printed[0].suffix.lower() == ".json"
        if printed and printed[0].suffix.lower() == CSV:
            options["csv"] = True
        ended: typer.Exit | None = None
        with console.into(StringIO()) as taken:
            try:
                command(*words, **options)
            except typer.Exit as end:
                ended = end
        from indrel.base.files import write_whole

        for file in printed:
            write_whole(file, taken.getvalue().encode("utf-8", "backslashreplace"))
        console.say(f"written: {console.files(output)}", quiet)
        if ended is not None:
            raise ended

    hints = get_type_hints(command, include_extras=True)  # as values: names mean nothing in this module
    parameters = [
        p.replace(annotation=hints[name]) for name, p in signature.parameters.items() if name not in ("csv", "reports")
    ]
    keyword = inspect.Parameter.KEYWORD_ONLY
    parameters.append(inspect.Parameter("output", keyword, default=None, annotation=AnswerOption))
    if not takes_quiet:
        parameters.append(inspect.Parameter("quiet", keyword, default=False, annotation=QuietOption))
    run.__signature__ = signature.replace(parameters=parameters, return_annotation=None)  # type: ignore[attr-defined]
    run.__annotations__ = {p.name: p.annotation for p in parameters}
    return run
