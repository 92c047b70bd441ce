"""`indrel history` and `indrel forget`: the snapshots of a site over time."""

from __future__ import annotations

import json as json_module
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import IndrelError, UsageError
from indrel.base.extras import require
from indrel.cli import options as opt
from indrel.cli.console import say, terminal, write_json

if TYPE_CHECKING:
    from indrel.ask.history import History

FolderOption = Annotated[
    Path | None,
    typer.Option("--in", metavar="FOLDER", help="The folder of the snapshots.", show_default="indrel-runs/"),
]
HostArgument = Annotated[
    str | None,
    typer.Argument(metavar="[HOST]", help="The site.", show_default="that of the newest snapshot"),
]
MOST = 12


def _host(text: str | None) -> str | None:
    return text.partition("://")[2].partition("/")[0] or text.partition("/")[0] if text else None


def _snapshots(folder: Path | None, host: str | None) -> tuple[str, list[Path]]:
    """The site's name in file names, and its snapshots."""
    from indrel import pipeline
    from indrel.snapshot.selection import SUFFIX, newest

    where = folder or Path(pipeline.RUNS)
    name = re.sub(r"-[0-9]{8}T[0-9]{6}Z$", "", newest([where], _host(host), True).path.stem)
    return name, sorted(p for p in where.glob(f"{name}-*{SUFFIX}") if re.search(r"-[0-9]{8}T[0-9]{6}Z$", p.stem))


def show_history(
    host: HostArgument = None,
    folder: FolderOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    output: Annotated[
        list[Path] | None,
        typer.Option("-o", "--output", metavar="FILE", help="Draw it (.png .svg) or write it (.json). Repeatable."),
    ] = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Show all audits of a site: states over time, and when each cause appeared and disappeared."""
    from indrel import pipeline
    from indrel.ask.history import audits, history

    endings = {file.suffix.lower() for file in output or ()}
    if endings - {".png", ".svg", ".json"}:
        raise UsageError(
            f"a history can be written as .png, .svg or .json, not {sorted(endings - {'.png', '.svg', '.json'})[0]}"
        )
    for file in output or ():
        if file.suffix.lower() != ".json":
            require("matplotlib", str(file))
    wants = pipeline.load_intent(intent)
    runs, unreadable = audits(
        pipeline.kept_in(folder), _host(host), lambda path: pipeline.open_site(path, crawler, wants)
    )
    found = history(runs, unreadable)
    for file in output or ():
        _write(file, found)
        say(f"written: {file}", quiet)
    if json:
        write_json(found.as_json())
    else:
        _show(found)
    for path, why in unreadable:
        say(f"skipped: {path}: {why}", quiet)


def _write(file: Path, found: History) -> None:
    from indrel.base.files import write_whole

    if file.suffix.lower() == ".json":
        content = (json_module.dumps(found.as_json(), ensure_ascii=False, indent=1) + "\n").encode(
            "utf-8", "backslashreplace"
        )
    else:
        from indrel.reports.figures import history_figure

        content = history_figure(found, file.suffix[1:].lower())
    write_whole(file, content)


def _show(found: History) -> None:
    from indrel.core.model import Severity, moment, plural
    from indrel.reports.columns import table
    from indrel.reports.terminal import STYLES

    term = terminal()
    first, last = found.runs[0], found.runs[-1]
    standing = [c for c in found.causes if c.gone is None]
    gone = len(found.causes) - len(standing)
    since = f" since {moment(first.started)}" if len(found.runs) > 1 else ""
    term.line(
        f"{last.headline.subject}: {plural(len(found.runs), 'audit')}{since}; {plural(len(standing), 'cause')} now, "
        f"{gone:,} gone. {last.headline.said}.",
        "bold",
    )
    term.console.print()
    rows = []
    for run, same, alike in found.steps:
        states = next(reversed(run.states.values()), {})
        until = f" to {moment(same.started)}, {alike:,} alike" if alike > 1 else ""
        rows.append([
            moment(run.started) + until + ("" if run.complete else " (incomplete)"), f"{run.headline.lost:,} of {run.headline.wanted:,}",
            f"{run.headline.exposed:,}", f"{run.findings['stop']:,}", f"{run.findings['fix']:,}", f"{states.get('open', 0):,}",
            f"{states.get('hidden', 0):,}", f"{states.get('barred', 0):,}",
        ])  # fmt: skip
    table(term, ["audit", "lost", "exposed", "stop", "fix", "open", "hidden", "barred"], rows)
    came = [c for c in standing if c.first == last.started and len(found.runs) > 1]
    went = [c for c in found.causes if c.gone is not None]
    old = [c for c in standing if c not in came]
    for title, causes, when in (
        ("New in the newest audit", came, "first"), ("Still there", old, "first"), ("Gone", went, "gone"),
    ):  # fmt: skip
        if causes:
            term.console.print()
            term.line(title, "bold")
        for one in causes[:MOST]:
            said = (
                f"since {moment(one.first)}" if when == "first" else f"by {moment(one.gone)}, first {moment(one.first)}"
            )
            count = f"{one.count:,} × " if one.count > 1 else ""
            term.pieces(
                (f"  {one.severity:<5} ", STYLES[Severity[one.severity.upper()]]),
                (f"{count}{one.check}  {one.section}  ", ""),
                (said, "dim"),
            )
        if len(causes) > MOST:
            term.line(f"and {len(causes) - MOST:,} more (--json shows all)", "dim", indent=2)


def forget(
    host: HostArgument = None,
    keep: Annotated[int | None, typer.Option("--keep", min=1, metavar="N", help="Keep the newest N.")] = None,
    older_than: Annotated[
        str | None,
        typer.Option("--older-than", metavar="D", help="Remove snapshots older than this (30, 30d, 8w)."),
    ] = None,
    folder: FolderOption = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask for confirmation.")] = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Remove old snapshots of a site, never the newest. Shows what that frees, and asks for confirmation."""
    from indrel.ask.history import forgettable
    from indrel.core.model import plural
    from indrel.snapshot.selection import in_order

    if keep is None and older_than is None:
        raise UsageError("state which ones: --keep N or --older-than D")
    name, paths = _snapshots(folder, host)
    known = in_order(paths)
    if odd := len(paths) - len(known):
        say(f"{plural(odd, 'file')} cannot be read and {'stays' if odd == 1 else 'stay'}", quiet)
    found = forgettable(known, keep, _span(older_than), datetime.now(UTC))
    freed = sum(size for _, size in found) / 1e6
    if not found:
        others = (
            "" if known else "; only files with a name that an audit gave (HOST-20261123T080000Z.indrel) are removed"
        )
        print(f"{name}: nothing to remove among {plural(len(known), 'snapshot')}{others}")
        return
    print(f"{name}: {plural(len(found), 'snapshot')} of {len(known):,} to remove, {freed:,.1f} MB")
    for path, size in found:
        say(f"  {path}  {size / 1e6:,.1f} MB", quiet)
    if not yes and not typer.confirm("Remove them?", err=True):
        raise typer.Exit(1)
    for path, _ in found:
        try:
            path.unlink()
        except OSError as error:
            raise _NotRemoved(f"{path} cannot be removed: {error.strerror}") from error
    print(f"{name}: {plural(len(found), 'snapshot')} removed, {freed:,.1f} MB freed")


class _NotRemoved(IndrelError):
    exit_code = 2


def _span(text: str | None) -> timedelta | None:
    if text is None:
        return None
    found = re.fullmatch(r"([0-9]{1,5})\s*([dw]?)", text.strip().lower())
    if not found:
        raise UsageError(f"--older-than {text}: write days or weeks, such as 30d or 8w")
    return timedelta(days=int(found[1]) * (7 if found[2] == "w" else 1))
