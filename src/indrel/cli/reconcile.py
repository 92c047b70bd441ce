"""`indrel reconcile`: an engine's list or a server log, compared with a snapshot."""

from __future__ import annotations

import json as json_module
import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import AuditCutShort, SnapshotError, UsageError
from indrel.cli import options as opt
from indrel.cli.console import out_console, say, terminal
from indrel.cli.snapshots import newest, opened

if TYPE_CHECKING:
    from indrel.ask.reconcile.lists import Reconciled, Row
    from indrel.ask.reconcile.logs import LogRead
    from indrel.reports.terminal import Terminal

FEW = 8


def reconcile(
    files: Annotated[
        list[Path], typer.Argument(metavar="[SNAPSHOT] TABLE...", help="A CSV, TSV or XLSX export, or access logs.")
    ],
    column: Annotated[
        str | None, typer.Option("--column", metavar="NAME", help="The column with URLs, if it is not found.")
    ] = None,
    status_column: Annotated[
        str | None,
        typer.Option(
            "--status-column", metavar="NAME", help="The column with the engine's status, if it is not found."
        ),
    ] = None,
    listed: Annotated[
        list[str] | None,
        typer.Option("--listed", metavar="VALUE", help="A value of that column that means indexed. Repeatable."),
    ] = None,
    indexed: Annotated[
        bool | None,
        typer.Option(
            "--indexed/--not-indexed",
            " /--unlisted",
            help="What the whole table is, if no column tells.",
            show_default=False,
        ),
    ] = None,
    output: Annotated[
        list[Path] | None,
        typer.Option("-o", "--output", metavar="FILE", help="Write one row per URL (.csv .xlsx .json). Repeatable."),
    ] = None,
    unknown: Annotated[
        Path | None,
        typer.Option("--unknown", metavar="FILE", help="Write the URLs that the audit does not know, for --urls."),
    ] = None,
    from_snapshot: opt.FromOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Compare an engine's export or a server log with an audit: what is indexed wrongly, what is missing, and why."""
    from indrel.ask.reconcile import lists, logs
    from indrel.ask.reconcile.tables import is_log
    from indrel.base.files import is_snapshot, write_whole
    from indrel.checks.headline import spoken_of

    has_snapshot = len(files) > 1 and is_snapshot(str(files[0]))
    snapshot, paths = (files[0], files[1:]) if has_snapshot else (from_snapshot, files)
    path = paths[0]
    log = is_log(path)
    if len(paths) > 1 and not (log and all(map(is_log, paths))):
        raise UsageError("give a snapshot and one table, or several logs: indrel reconcile SNAPSHOT TABLE")
    found: Reconciled | LogRead
    about: str | None = None
    while True:
        with opened(snapshot, crawler, quiet, intent, about, memory=logs.MEMORY if log else None) as site:
            found = (
                logs.read(site, paths)
                if log
                else lists.reconcile(site, path, column, indexed, status_column, listed or ())
            )
            base, origin, subject = site.base, site.base_origin, spoken_of(site)
        other = None if isinstance(found, logs.LogRead) else found.other_site
        if other is None:
            break
        if snapshot or about:
            raise _of_another_site(path, other, subject)
        try:  # the newest audit is of another site than the table: the newest of that one
            newest(other, True)
        except SnapshotError:
            raise _of_another_site(path, other, subject) from None
        about = other
    if unknown:
        urls = [url for group in found.unknown.values() for url in group]
        write_whole(unknown, ("\n".join(urls) + "\n").encode() if urls else b"")
        say(f"written: {unknown}; try: {shlex.join(['indrel', 'audit', base, '--urls', str(unknown)])}", quiet)
    for file in output or ():
        write_whole(file, _table(found, file))
        say(f"written: {file}", quiet)
    if json:
        out_console().file.write(json_module.dumps(found.as_json(), ensure_ascii=False, default=str) + "\n")
    elif isinstance(found, lists.Reconciled):
        _show_list(terminal(), found, path, origin, subject)
    else:
        _show_log(terminal(), found, paths, origin, subject)
    if isinstance(found, lists.Reconciled) and any(row.listed is not False for row in found.cannot):
        raise typer.Exit(1)


def _of_another_site(path: Path, other: str, subject: str) -> AuditCutShort:
    from indrel.core.address import origin_of

    return AuditCutShort(
        f"nothing was compared: no URL of {path} is on {subject}; name an audit of {origin_of(other)} with --from, or audit it first"
    )


def _show_columns(term: Terminal, found: Reconciled) -> None:
    """What was read from which column, and the engine's words with the states here."""
    from indrel.core.model import plural
    from indrel.reports.columns import table

    columns = found.columns
    read = [f"{plural(found.rows, 'row')}, {found.matched:,} matched"]
    if columns:
        told = [f"{what} from `{columns.names[place]}`" for what, place in
                (("URLs", columns.address), ("the engine's status", columns.status), ("reasons", columns.reason),
                 ("dates", columns.when))
                if place is not None and columns.names[place]]  # fmt: skip
        read.append(", ".join(told))
        read += [f"sheet `{columns.sheet}`"] if columns.sheet else []
    term.line("; ".join(part for part in read if part), "dim")
    if found.reasons:
        rows = [
            [reason, f"{sum(states.values()):,}", ", ".join(f"{s} {n:,}" for s, n in states.items())]
            for reason, states in found.reasons.items()
        ]
        term.console.print()
        table(term, ["reason" if columns.reason is not None else "engine status", "rows", "state here"], rows)


def _show_list(term: Terminal, found: Reconciled, path: Path, origin: str, subject: str) -> None:
    from indrel.ask.reconcile.lists import summary
    from indrel.core.model import plural
    from indrel.reports.terminal import short

    columns = found.columns
    term.line(f"{subject}: {path}: {summary(found)}.", "bold")
    _show_columns(term, found)
    groups: dict[tuple[int, str], list[Row]] = {}
    for row in found.table:
        groups.setdefault((row.urgency, row.do), []).append(row)
    titles = ("Fix here", "Decide", "Request from the engine", "Find out", "Wait", "Nothing to do")
    last = -1
    shown = sorted(groups.items(), key=lambda pair: (pair[0][0], -len(pair[1])))
    for (urgency, do), members in shown[: FEW * 2]:
        if urgency != last:
            term.console.print()
            term.line(titles[urgency], "bold")
            last = urgency
        urls = [short(r.url, origin) for r in members]
        more = f" and {len(urls) - 3:,} more" if len(urls) > 3 else ""
        term.line(f"{len(urls):,} × {do}", indent=2, hang=4)
        term.line(
            f"{', '.join(urls[:3])}{more}; engine status: {', '.join(sorted({r.says for r in members}))}",
            "dim",
            indent=6,
            hang=2,
        )
        by = members[0].by
        if by and urgency == 0:
            term.evidence(by, origin, indent=6)
    if len(shown) > FEW * 2:
        term.line(f"and {len(shown) - FEW * 2:,} more (-o rows.csv has every row)", "dim", indent=2)
    if columns and columns.all_listed is not None:
        taken = "indexed" if columns.all_listed else "not indexed"
        term.line(
            f"No column shows whether a URL is indexed: all are taken as {taken}, because {columns.told_by} says so.",
            "dim",
        )
    elif columns and columns.status is None:
        term.line(
            "No column shows whether a URL is indexed (say --indexed or --not-indexed if all are, or none).", "dim"
        )
    _unknown(term, found.unknown, {s: len(u) for s, u in found.unknown.items()}, origin)
    if found.elsewhere:
        term.line(f"on other sites: {len(found.elsewhere):,}, such as {found.elsewhere[0]}", "dim")
    if found.unusable:
        term.line(f"without a URL: {plural(len(found.unusable), 'row')}, such as {found.unusable[0]!r}", "yellow")


HEADS = (
    "url",
    "engine status",
    "indexed",
    "state here",
    "want",
    "where",
    "line",
    "text",
    "what to do",
    "since",
    "reason",
)


def _table(found: Reconciled | LogRead, file: Path) -> bytes:
    """One row per URL, sorted by what to do; for a log, the blocked URLs that were requested."""
    from indrel.ask.reconcile.lists import Reconciled
    from indrel.base.tables import csv_bytes

    ending = file.suffix.lower()
    if ending == ".json":
        return (json_module.dumps(found.as_json(), ensure_ascii=False, default=str) + "\n").encode(
            "utf-8", "backslashreplace"
        )
    if ending not in (".csv", ".xlsx"):
        raise UsageError(f"{file}: rows can be written as .csv, .xlsx or .json")
    rows: list[tuple[object, ...]]
    if isinstance(found, Reconciled):
        heads: tuple[str, ...] = HEADS
        rows = [
            (r.url, r.says, {True: "yes", False: "no", None: ""}[r.listed], r.state, r.want, r.by.where if r.by else "",
             r.by.line if r.by else None, r.by.text if r.by else "", r.do, r.since or "", r.reason or "")
            for r in found.table
        ]  # fmt: skip
    else:
        heads = ("url", "crawler", "requests")
        rows = [(r["url"], r["crawler"], r["requests"]) for r in found.barred]
    if ending == ".xlsx":
        from indrel.reports.workbook import table_book

        return table_book("Rows", heads, rows)
    return csv_bytes(heads, rows)


def _more(term: Terminal, count: int) -> None:
    if count > FEW:
        term.line(f"and {count - FEW:,} more (--json shows all)", "dim", indent=2)


def _unknown(term: Terminal, unknown: dict[str, list[str]], counts: dict[str, int], origin: str) -> None:
    from indrel.reports.terminal import short

    if not unknown:
        return
    term.console.print()
    term.line("Unknown to the audit (write them with --unknown FILE, then audit with --urls FILE)", "bold")
    for section, count in sorted(counts.items(), key=lambda pair: -pair[1])[:FEW]:
        example = f", such as {short(unknown[section][0], origin)}" if section in unknown else ""
        term.line(f"{section}: {count:,}{example}", indent=2, hang=4)


def _show_log(term: Terminal, found: LogRead, paths: list[Path], origin: str, subject: str) -> None:
    from indrel.core.model import plural
    from indrel.reports.columns import table
    from indrel.reports.terminal import short

    asked = sum(found.crawlers.values())
    named = paths[0] if len(paths) == 1 else plural(len(paths), "log")
    term.line(
        f"{subject}: {named}: {plural(asked, 'request')} by crawlers in {plural(found.lines, 'line')}; "
        f"{plural(found.barred_urls, 'blocked URL')} requested, "
        f"{plural(found.never_fetched, 'wanted page')} never fetched by a search crawler.",
        "bold",
    )
    if found.unreadable:
        term.line(f"{plural(found.unreadable, 'line')} could not be read", "yellow")
    top = ", ".join(f"{name} {count:,}" for name, count in list(found.crawlers.items())[:FEW])
    term.line(f"crawlers: {top or 'none named'}", "dim", hang=10)
    if found.fetched:
        term.console.print()
        rows = [[str(r["section"]), str(r["state"]), str(r["status"]), f"{r['requests']:,}", f"{r['addresses']:,}"]
                for r in found.fetched[:15]]  # fmt: skip
        table(term, ["section", "state here", "returned", "requests", "URLs"], rows)
    if found.barred:
        term.console.print()
        term.line("Blocked, but requested", "bold")
        for row in found.barred[:FEW]:
            term.line(
                f"{short(str(row['url']), origin)}: {row['crawler']}, {plural(int(str(row['requests'])), 'request')}",
                indent=2,
                hang=4,
            )
        _more(term, len(found.barred))
    if found.never:
        term.console.print()
        term.line("Wanted, but never fetched by a search crawler", "bold")
        term.line(
            ", ".join(short(u, origin) for u in found.never[:FEW]) + (" ..." if len(found.never) > FEW else ""),
            indent=2,
            hang=2,
        )
    if found.impostors:
        term.console.print()
        term.line("Crawler names from hosts that are not theirs", "bold")
        for row in found.impostors[:FEW]:
            term.line(f"{row['crawler']} from {row['host']}: {plural(int(str(row['requests'])), 'request')}", indent=2)
    elif not found.has_hosts:
        term.line("The log has no host names, so it is unknown whether crawlers are genuine.", "dim")
    _unknown(term, found.unknown, found.unknown_counts, origin)
