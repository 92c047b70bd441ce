"""`indrel list`: the addresses of a snapshot."""

from __future__ import annotations

import json as json_module
from typing import Annotated

import typer

from indrel.cli import options as opt
from indrel.cli.snapshots import opened
from indrel.cli.talk import out_console, say, terminal


def list_addresses(
    snapshot: opt.SnapshotArgument = None,
    state: Annotated[
        list[str] | None, typer.Option("--state", metavar="STATE", help="Only this state, for any crawler.")
    ] = None,
    want: Annotated[list[str] | None, typer.Option("--want", metavar="WANT", help="Only this want.")] = None,
    kind: Annotated[list[str] | None, typer.Option("--kind", metavar="KIND", help="Only this kind.")] = None,
    section: Annotated[
        list[str] | None, typer.Option("--section", metavar="SECTION", help="Only this section.")
    ] = None,
    unreached: Annotated[
        bool, typer.Option("--unreached", help="Only what followed links from the start page do not lead to.")
    ] = False,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    output: opt.OutputOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """List addresses with kind, section, want, state per crawler, status and what they fold into."""
    from indrel.addresses import listed, write
    from indrel.reports.terminal import STATE_STYLES, short, states_shown, table

    with opened(snapshot, crawler, quiet, intent) as site:
        rows = listed(site, states=state, wants=want, kinds=kind, sections=section, unreached=unreached)
        if output:
            for file in output:
                write(file, rows, site)
                say(f"written: {file}", quiet)
            return
        if json:
            out = out_console().file
            for row in rows:
                out.write(json_module.dumps(row.as_json(), ensure_ascii=False) + "\n")
            return
        origin = site.base_origin
        cells, count = [], 0
        for row in rows:
            shown = states_shown(row.states)
            want_shown = row.want if row.stated or row.want == "any" else f"({row.want})"
            cells.append([
                short(row.url, origin), row.kind, row.section, want_shown, shown,
                str(row.status or ""), "" if row.clicks is None else str(row.clicks), short(row.folds_into or "", origin),
            ])  # fmt: skip
            count += 1
        if cells:
            styles = {str(s): style for s, style in STATE_STYLES.items()}
            table(
                terminal(),
                ["address", "kind", "section", "want", "state", "status", "clicks", "folds into"],
                cells,
                styles,
            )
        say(f"{count:,} addresses; wants in brackets are implied" if count else "no address is like that", quiet)
