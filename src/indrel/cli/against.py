"""`indrel audit --against`: a copy compared with the live site."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import typer

from indrel.cli.console import say, terminal, write_json

if TYPE_CHECKING:
    from indrel.ask.against import Against
    from indrel.base.errors import IndrelError
    from indrel.core.intent import Intent
    from indrel.decide.site import Site
    from indrel.reports.terminal import Terminal
    from indrel.sources.options import GatherOptions

FEW = 10


class LiveSide(NamedTuple):
    """The snapshot of the live site, and what cut its audit short."""

    path: Path
    cut: IndrelError | None = None


def live_side(other: str, options: GatherOptions, quiet: bool) -> LiveSide:
    """The live site's snapshot: the one that is named, or one of an audit made now. What was given for the copy's server (headers,
    base, further URLs) is not used for it."""
    from indrel import pipeline

    if pipeline.source_kind(other) == "snapshot":
        return LiveSide(Path(other))
    gathered = pipeline.gather(other, replace(options, headers=(), base=None, also=()))
    say(f"snapshot of the live site saved: {gathered.snapshot}", quiet)
    return LiveSide(gathered.snapshot, gathered.cut_short)


def hold(
    copy: Path, live: LiveSide, options: GatherOptions, wants: Intent, crawler: list[str] | None, json: bool,
    cut: IndrelError | None, was_requested: bool,
) -> None:  # fmt: skip
    """Compare, and exit: 1 if the copy is open, 3 if an audit is incomplete or the sides have nothing in common."""
    from indrel import pipeline
    from indrel.ask.against import against
    from indrel.base.errors import AuditCutShort

    cut = cut or live.cut
    mine = pipeline.open_site(copy, crawler, wants)
    theirs = pipeline.open_site(live.path, [c.token for c in mine.crawlers], wants)
    try:
        found = against(mine, theirs, _without_login(mine, options, was_requested))
    finally:
        mine.close()
        theirs.close()
    if json:
        write_json(found.as_json())
    else:
        _show(found, mine.base_origin)
    if cut is None and found.was_not_read:
        cut = AuditCutShort("nothing of the copy could be read: check its URL, and the login (--header)")
    if cut is not None:
        say(f"indrel: {cut}")
    raise typer.Exit(cut.exit_code if cut else 0 if found.is_closed else 1)


def _without_login(copy: Site, options: GatherOptions, was_requested: bool) -> dict[str, int | None]:
    """What the start page and a few others return without the login that the copy was read with. Only a copy that was requested now
    is requested again: a snapshot may come from a stranger, and must not choose where we connect."""
    if not copy.meta.get("with_credentials") and not options.headers:
        return {}
    if not was_requested:
        say("the copy was read with a login: name its URL to learn whether it is closed without one")
        return {}
    from indrel.ask.against import sample
    from indrel.sources.plain_requests import statuses

    return statuses(sample(copy), options)


def _show(found: Against, origin: str) -> None:
    from indrel.reports.terminal import short

    term = terminal()
    term.line(f"{found.sentence}.", "bold" if found.is_closed else "bold red")
    for evidence in found.closed_by:
        term.evidence(evidence, origin)
    if found.open:
        rest = f" and {found.open_count - 3:,} more" if found.open_count > 3 else ""
        term.line(f"open  {', '.join(short(u, origin) for u in found.open[:3])}{rest}", indent=2, hang=6)
        term.line("Let the server require a login for the whole host: that keeps people out too.", "green", indent=2)
    _unknown(term, found, origin)
    if found.missing:
        term.console.print()
        term.line("Open on the live site, missing on the copy", "bold")
        for url in found.missing[:FEW]:
            term.line(short(url, origin), indent=2, hang=4)
        _rest(term, len(found.missing))
    if found.differences:
        term.console.print()
        term.line("Where pages differ (live -> copy)", "bold")
    for one in found.differences[:FEW]:
        term.line(f"{one.count:,} × {one.what}: {one.live}  ->  {one.copy}", indent=2, hang=4)
        more = f" and {one.count - 3:,} more" if one.count > 3 else ""
        term.line(f"on  {', '.join(short(u, origin) for u in one.urls[:3])}{more}", "dim", indent=4, hang=4)
        for side, line in zip(("live", "copy"), one.lines, strict=True):
            if line:
                term.evidence(line, origin, word=side)
    _rest(term, len(found.differences))
    if found.rules or found.robots[0] != found.robots[1]:
        term.console.print()
        term.line(f"robots.txt (live: {found.robots[0]}, copy: {found.robots[1]})", "bold")
        term.rules(found.rules[:FEW])
        _rest(term, len(found.rules))
    if found.only_copy:
        term.console.print()
        term.line(f"{found.only_copy:,} only on the copy")


def _unknown(term: Terminal, found: Against, origin: str) -> None:
    """What could not be compared, by side and reason."""
    from indrel.core.model import plural
    from indrel.reports.terminal import short

    groups: dict[tuple[str, str], list[str]] = {}
    for url, side, because in found.unknown:
        groups.setdefault((side, because), []).append(short(url, origin))
    for (side, because), urls in groups.items():
        where = "on the live site" if side == "live" else "on the copy"
        hint = " (--read-barred reads them)" if because.startswith("blocked") else ""
        more = " ..." if len(urls) > 3 else ""
        what = f"{plural(len(urls), 'page')} not read {where}: {because}{hint}: {', '.join(urls[:3])}{more}"
        term.line(f"unknown  {what}", "yellow", indent=2, hang=9)


def _rest(term: Terminal, count: int) -> None:
    if count > FEW:
        term.line(f"and {count - FEW:,} more (--json shows all)", "dim", indent=2)
