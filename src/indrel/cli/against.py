"""`indrel audit --against`: a copy compared with the live site."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import typer

from indrel.cli.console import say, terminal, write_json

if TYPE_CHECKING:
    from indrel.ask.against import Against
    from indrel.base.errors import IndrelError
    from indrel.core.intent import Intent
    from indrel.sources.options import GatherOptions

FEW = 10


def hold(
    copy: Path, other: str, options: GatherOptions, wants: Intent, crawler: list[str] | None, json: bool, quiet: bool,
    cut: IndrelError | None,
) -> None:  # fmt: skip
    """Compare, and exit: 1 if the copy is open, 3 if an audit is incomplete. `other` is a snapshot, or a site to audit now."""
    from indrel import pipeline
    from indrel.ask.against import against

    path = Path(other)
    if pipeline.source_kind(other) != "snapshot":
        gathered = pipeline.gather(other, options)
        path, cut = gathered.snapshot, cut or gathered.cut_short
        say(f"snapshot saved: {path}", quiet)
    mine = pipeline.open_site(copy, crawler, wants)
    theirs = pipeline.open_site(path, [c.token for c in mine.crawlers], wants)
    try:
        found = against(mine, theirs)
    finally:
        mine.close()
        theirs.close()
    if json:
        write_json(found.as_json())
    else:
        _show(found, mine.base_origin)
    if cut is not None:
        say(f"indrel: {cut}")
    raise typer.Exit(cut.exit_code if cut else 0 if found.is_closed else 1)


def _show(found: Against, origin: str) -> None:
    from indrel.core.model import plural
    from indrel.reports.terminal import short

    term = terminal()
    term.line(f"{found.sentence}.", "bold" if found.is_closed else "bold red")
    for evidence in found.closed_by:
        term.evidence(evidence, origin)
    if found.open:
        rest = f" and {found.open_count - 3:,} more" if found.open_count > 3 else ""
        term.line(f"open  {', '.join(short(u, origin) for u in found.open[:3])}{rest}", indent=2, hang=6)
        term.line("Let the server require a login for the whole host: that keeps people out too.", "green", indent=2)
    if found.unread:
        term.line(
            f"{plural(found.unread, 'page')} of both could not be compared, because the copy's were not read (--read-barred reads them).",
            "yellow",
            indent=2,
        )
    if found.differences:
        term.console.print()
        term.line("Where directives differ (live -> copy)", "bold")
    for one in found.differences[:FEW]:
        term.line(f"{one.count:,} × {one.what}: {one.live}  ->  {one.copy}", indent=2, hang=4)
        more = f" and {one.count - 3:,} more" if one.count > 3 else ""
        term.line(f"on  {', '.join(short(u, origin) for u in one.urls[:3])}{more}", "dim", indent=4, hang=4)
    if len(found.differences) > FEW:
        term.line(f"and {len(found.differences) - FEW:,} more (--json shows all)", "dim", indent=2)
    if found.only_live or found.only_copy:
        term.console.print()
        first = f", such as {found.examples[0]}" if found.examples else ""
        term.line(f"{found.only_live:,} only on the live site{first}; {found.only_copy:,} only on the copy")
