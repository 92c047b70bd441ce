"""`indrel list`: the URLs of a snapshot."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.cli import complete
from indrel.cli import options as opt
from indrel.cli.console import out_console, say, terminal
from indrel.cli.snapshots import opened

if TYPE_CHECKING:
    from indrel.ask.addresses import AddressRow, By, Group
    from indrel.decide.site import Site


def list_addresses(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    state: Annotated[
        list[str] | None,
        typer.Option(
            "--state",
            metavar="STATE",
            help="Only this state, for any crawler. Repeatable.",
            autocompletion=complete.states,
        ),
    ] = None,
    want: Annotated[
        list[str] | None, typer.Option("--want", metavar="WANT", help="Only this want.", autocompletion=complete.wants)
    ] = None,
    kind: Annotated[
        list[str] | None, typer.Option("--kind", metavar="KIND", help="Only this kind.", autocompletion=complete.kinds)
    ] = None,
    section: Annotated[
        list[str] | None,
        typer.Option("--section", metavar="SECTION", help="Only this section.", autocompletion=complete.sections),
    ] = None,
    check: Annotated[
        list[str] | None,
        typer.Option(
            "--check", metavar="ID", help="Only URLs that this check reports.", autocompletion=complete.checks
        ),
    ] = None,
    by: Annotated[
        list[str] | None,
        typer.Option(
            "--decided-by",
            "--by",
            metavar="KIND",
            help="Only states decided by robots, tag, header, canonical, redirect or status.",
        ),
    ] = None,
    reached_by: Annotated[
        str | None,
        typer.Option(
            "--reached-by",
            metavar="HOW",
            help="Only URLs with nofollow links alone (unfollowed), or without links (nothing).",
        ),
    ] = None,
    unreached: Annotated[
        bool, typer.Option("--unreached", help="Only URLs that followed links from the home page do not reach.")
    ] = False,
    left_out: Annotated[
        bool,
        typer.Option(
            "--missing-from-sitemap",
            "--left-out",
            help="Only open pages that no sitemap lists, although similar pages are listed.",
        ),
    ] = False,
    cls: Annotated[
        list[str] | None,
        typer.Option(
            "--class",
            metavar="CLASS",
            help="Only URLs with findings of this class: blocked, exposed, conflict, flaw. Repeatable.",
            autocompletion=complete.classes,
        ),
    ] = None,
    lost: Annotated[
        bool,
        typer.Option("--lost", help="Only the wanted pages that cannot be indexed, as the first line counts them."),
    ] = False,
    exposed: Annotated[
        bool,
        typer.Option("--exposed", help="Only the unwanted pages that can be indexed, as the first line counts them."),
    ] = False,
    has: Annotated[
        list[str] | None,
        typer.Option("--has", metavar="DIRECTIVE", help="Only URLs that have noindex or nofollow, in any state."),
    ] = None,
    match: Annotated[
        list[str] | None,
        typer.Option("--match", metavar="PATTERN", help="Only paths that match, such as '/x*' or '//host/x*'."),
    ] = None,
    sort: Annotated[
        str | None,
        typer.Option("--sort", metavar="ORDER", help="Sort by url, section, kind, status, clicks, links or where."),
    ] = None,
    group_by: Annotated[
        str | None,
        typer.Option("--group-by", metavar="WHAT", help="Count the URLs by section, kind, state or check."),
    ] = None,
    columns: Annotated[
        str | None, typer.Option("--columns", metavar="NAMES", help="Show these columns, separated by commas.")
    ] = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    output: Annotated[
        list[Path] | None,
        typer.Option("-o", "--output", metavar="FILE", help="Write a file (.csv .xlsx .json). Repeatable."),
    ] = None,
    quiet: opt.QuietOption = False,
) -> None:
    """List URLs with want, state per crawler, status and the line that decides it; filtered, sorted, or written to a file."""
    from indrel.ask.addresses import Filters, columns_of, grouped, listed, values
    from indrel.reports.address_files import write
    from indrel.reports.columns import table
    from indrel.reports.terminal import STATE_STYLES

    filters = Filters(
        state or (), want or (), kind or (), section or (), check or (), by or (), reached_by, unreached, left_out,
        cls or (), lost, exposed, has or (), match or (),
    )  # fmt: skip
    chosen = [name.strip() for name in columns.split(",") if name.strip()] if columns else []
    with opened(from_snapshot or snapshot, crawler, quiet, intent) as site:
        names = [c.token for c in site.crawlers]
        asked = columns_of(names, chosen)  # an unknown one is refused before anything is written
        if output:
            for file in output:
                write(file, site, filters, sort, chosen)
                say(f"written: {file}", quiet)
            return
        if group_by:
            _show_groups(grouped(listed(site, filters, sort), group_by), site, group_by, json)
            return
        if json:
            out = out_console().file
            for row in listed(site, filters, sort):
                out.write(json_module.dumps(row.as_json(), ensure_ascii=False) + "\n")
            return
        if chosen:
            cells = [
                ["" if v is None else str(v) for v in row]
                for rows in values(site, asked, filters, sort)
                for row in rows
            ]
            _say(site, len(cells))
            table(terminal(), list(asked), cells, {str(s): style for s, style in STATE_STYLES.items()})
            return
        found = list(listed(site, filters, sort))
        _say(site, len(found), _among(site, found) if want == ["show"] else "")
        if found:
            _show(found, site, with_checks=bool(filters.checks or filters.classes))


def _show_groups(groups: list[Group], site: Site, by: str, json: bool) -> None:
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural
    from indrel.reports.columns import table
    from indrel.reports.terminal import short

    if json:
        for group in groups:
            out_console().file.write(json_module.dumps(group.as_json(), ensure_ascii=False) + "\n")
        return
    if not groups:
        _say(site, 0)
        return
    terminal().line(f"{spoken_of(site)}: {plural(len(groups), 'group')} of URLs by {by}.", "bold")
    rows = [
        [
            group.name, f"{group.count:,}", f"{group.wanted:,}", ", ".join(f"{state} {n:,}" for state, n in group.states.items()),
            short(group.example, site.base_origin),
        ]
        for group in groups
    ]  # fmt: skip
    table(terminal(), [by, "URLs", "wanted", "states", "such as"], rows)


def _among(site: Site, found: list[AddressRow]) -> str:
    """How many of the wanted URLs are pages that the first line of the audit counts, if not all."""
    from indrel.ask.addresses import wanted_among

    pages = wanted_among(site, (row.url for row in found))
    return f", {pages:,} of them wanted pages (variants once, files not)" if pages < len(found) else ""


def _say(site: Site, count: int, among: str = "") -> None:
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural

    said = (
        f"{plural(count, 'URL')}{among}; a want in brackets is inferred"
        if count
        else f"no URL matches{_there_are(site)}"
    )
    terminal().line(f"{spoken_of(site)}: {said}.", "bold")


def _there_are(site: Site) -> str:
    """The states that can be asked for."""
    states = ", ".join(f"{state} {count:,}" for state, count in next(reversed(site.state_counts().values())).items())
    return f"; there are: {states}"


def _place(by: By, url: str, origin: str) -> str:
    """The place of a reason; only the line if it is the page itself, which the row names."""
    from indrel.reports.terminal import short

    if by.where == url:
        return f"line {by.line}: " if by.line else ""
    return short(by.place, origin) + ": "


def _show(rows: list[AddressRow], site: Site, with_checks: bool) -> None:
    from indrel.reports.columns import table
    from indrel.reports.terminal import STATE_STYLES, short, states_shown

    origin = site.base_origin
    styles = {str(s): style for s, style in STATE_STYLES.items()}
    cells = []
    for row in rows:
        by = "; ".join(dict.fromkeys(f"{_place(b, row.url, origin)}{b.text}" for b in row.by))
        target = short(row.folds_into, origin) if row.folds_into else ""
        if row.folds_into and not any(row.folds_into in b.text or b.text.endswith(f" {target}") for b in row.by):
            by += f" -> {target}"
        cells.append([
            short(row.url, origin), row.kind, row.want if row.stated or row.want == "any" else f"({row.want})",
            states_shown(row.states) if row.states else "", str(row.status or ""), "" if row.clicks is None else str(row.clicks), by,
            *([" ".join(row.checks)] if with_checks else []),
        ])  # fmt: skip
    heads = ["URL", "kind", "want", "state", "status", "clicks", "decided by", *(["checks"] if with_checks else [])]
    table(terminal(), heads, cells, styles)
