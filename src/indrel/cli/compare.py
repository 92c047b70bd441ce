"""`indrel compare`: what changed between two snapshots."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import options as opt
from indrel.cli.console import terminal, write_json
from indrel.cli.output_option import answers
from indrel.core.address import origin_of

if TYPE_CHECKING:
    from indrel.ask.compare import Comparison
    from indrel.decide.site import Site
    from indrel.reports.terminal import Terminal

FEW = 12


@answers
def compare(
    old: Annotated[Path, typer.Argument(metavar="OLD", help="The earlier snapshot.")],
    new: Annotated[Path, typer.Argument(metavar="NEW", help="The later snapshot.")],
    map_places: Annotated[
        list[str] | None,
        typer.Option(
            "--map",
            metavar="PLACE=PLACE",
            help="Compare this host (or URL of a folder) of OLD with that of NEW. Repeatable.",
        ),
    ] = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
    reports: list[Path] | None = None,
) -> None:
    """Compare two audits: what changed, which edit explains it, and whether anything wanted got worse."""
    from indrel import pipeline
    from indrel.ask.compare import compare as held
    from indrel.checks.headline import spoken_of
    from indrel.core.mapping import AddressMap
    from indrel.core.model import moment

    wants = pipeline.load_intent(intent)
    after = pipeline.open_site(new, crawler, wants)
    before = pipeline.open_site(old, [c.token for c in after.crawlers], wants)
    try:
        found = held(before, after, AddressMap.between(before.base, after.base, _places(map_places)))
        origin = after.base_origin
        subject = f"{spoken_of(after)}, since {moment(before.meta.get('started'))}"
        if reports:
            write_changes(reports, found, before, after)
    finally:
        before.close()
        after.close()
    if json:
        write_json(found.as_json())
    else:
        _show(found, origin, subject)
    raise typer.Exit(1 if found.worse else 0)


def _places(values: list[str] | None) -> dict[str, str]:
    """What was given with `--map`: hosts, or starts of URLs. Raises UsageError for anything else."""
    found = {}
    for value in values or ():
        one, _, other = value.partition("=")
        sides = [_place(side.strip()) for side in (one, other)]
        if not all(sides) or len({"://" in str(side) for side in sides}) == 2:
            raise UsageError(
                f"--map {value}: write HOST=HOST, such as staging.sarnfell.example=www.sarnfell.example, or two URLs of folders, "
                "such as https://preview.example/next/=https://www.sarnfell.example/"
            )
        found[str(sides[0])] = str(sides[1])
    return found


def _place(text: str) -> str | None:
    from indrel.core.address import host_name, normalise
    from indrel.core.mapping import folder_of

    if "://" in text:
        url = normalise(text)
        return folder_of(url) if url else None
    return host_name(text) if text and "/" not in text else None


def write_changes(files: list[Path], found: Comparison, before: Site, after: Site, ledger: Path | None = None) -> None:
    """Write the comparison as reports, with the audits between the two that are kept in the working folder, and the ledger."""
    from indrel import pipeline
    from indrel.ask.history import audits, history, place_of, run_of
    from indrel.ledger import Ledger
    from indrel.ledger.book import DEFAULT_NAME
    from indrel.reports.changes import changes, write

    crawlers = [c.token for c in after.crawlers]
    sides = {site.snapshot.path.resolve(): run_of(site, site.snapshot.path) for site in (before, after)}
    kept = [p for p in pipeline.kept_in() if p.resolve() not in sides]
    began, ended = (str(site.meta.get("started")) for site in (before, after))
    between, _ = audits(
        kept, None, lambda path: pipeline.open_site(path, crawlers, after.intent), began, ended, place_of(after)
    )
    requests = []
    book = ledger or Path(DEFAULT_NAME)
    if ledger or book.is_file():
        with Ledger(book, make=False) as opened:
            requests = [
                one
                for one in opened.done()
                if origin_of(one.url) == after.base_origin and (one.done or "") >= began[:10]
            ]
    write(files, changes(found, before, after, history([*sides.values(), *between]), requests))


def _show(found: Comparison, origin: str, subject: str) -> None:
    from indrel.reports.terminal import STATE_STYLES, short

    term = terminal()
    term.line(f"{subject}: {found.sentence}.", "bold")
    reasons: dict[str, list[str]] = {}
    for one in found.unknown:
        reasons.setdefault(str(one["because"]), []).append(short(str(one["url"]), origin))
    for because, urls in list(reasons.items())[:FEW]:
        more = f" and {len(urls) - 3:,} more" if len(urls) > 3 else ""
        term.line(f"unknown  {', '.join(urls[:3])}{more}: {because}", "yellow", indent=2, hang=9)
    if found.edits:
        term.console.print()
        term.line("What changed, and which edit explains it", "bold")
    for edit in found.edits[:FEW]:
        style = "bold red" if edit.is_worse else STATE_STYLES.get(edit.after, "")  # type: ignore[call-overload]
        wanted = f", {edit.wanted:,} of them wanted" if edit.wanted and edit.before == "open" else ""
        who = "" if len(edit.crawlers) > 2 else f" for {', '.join(edit.crawlers)}"
        term.line(
            f"{len(edit.urls):,} × {edit.before} to {edit.after} in {edit.section}{who}{wanted}",
            style,
            indent=2,
            hang=2,
        )
        if edit.was:
            term.evidence(edit.was, origin, word="was")
        if edit.evidence and (edit.after != "open" or not edit.was or edit.evidence.kind == "robots"):
            term.evidence(edit.evidence, origin)
        shown = [short(u, origin) for u in edit.urls[:3]]
        term.line(f"on    {', '.join(shown)}{' ...' if len(edit.urls) > 3 else ''}", indent=7, hang=6)
    if len(found.edits) > FEW:
        term.line(f"and {len(found.edits) - FEW:,} more (--json shows all)", "dim", indent=2)
    _files(term, found, origin)
    term.by_check("New findings", found.findings_new, origin)
    term.by_check("Findings gone", found.findings_gone, origin, "green")


def _files(term: Terminal, found: Comparison, origin: str) -> None:
    """What changed in robots.txt, in the sitemaps and in what is known at all."""
    from indrel.reports.terminal import short

    if found.rules:
        term.console.print()
        term.line("robots.txt", "bold")
    term.rules(found.rules)
    for title, sides in (
        ("Sitemaps", (("added", found.sitemap_new), ("removed", found.sitemap_gone))),
        (
            "URLs that only one of the audits knows",
            (("only new", found.addresses_new), ("only old", found.addresses_gone)),
        ),
    ):
        if any(urls for _, urls in sides):
            term.console.print()
            term.line(title, "bold")
        for name, urls in sides:
            if urls:
                first = ", ".join(short(u, origin) for u in urls[:3])
                more = f" and {len(urls) - 3:,} more" if len(urls) > 3 else ""
                term.line(f"{len(urls):,} {name}: {first}{more}", indent=2, hang=4)
