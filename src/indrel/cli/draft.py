"""`indrel draft`: proposed files, tried on every known URL before they are written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import options as opt
from indrel.cli.console import out_console, say, terminal
from indrel.cli.help import Command
from indrel.cli.snapshots import opened

if TYPE_CHECKING:
    from indrel.decide.site import Site

draft = typer.Typer(
    help="Generate robots.txt, sitemaps, header rules and tickets.",
    no_args_is_help=True,
    rich_markup_mode=None,
)

FileOption = Annotated[
    Path | None, typer.Option("-o", "--output", metavar="FILE", help="Write the file instead of printing it.")
]


@draft.command("sitemap", cls=Command)
def sitemap(
    output: Annotated[
        Path,
        typer.Option("-o", "--output", metavar="DIR", help="The folder to write to, or one file."),
    ],
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    robots: Annotated[
        Path | None,
        typer.Option("--robots", metavar="FILE", help="Assume that this robots.txt is in place."),
    ] = None,
    gzip: Annotated[bool, typer.Option("--gzip", help="Compress the files.")] = False,
    split: Annotated[bool, typer.Option("--split", help="Write one file per section, and an index.")] = False,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Write a sitemap of the open, wanted pages.

    It shows what was excluded, and why.
    """
    from indrel.ask.drafts import sitemap as drafts
    from indrel.base.files import write_whole
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural

    is_file = output.name.endswith((".xml", ".xml.gz")) and not output.is_dir()
    if is_file and gzip and output.suffix != ".gz":
        output = output.with_name(f"{output.name}.gz")
    with opened(from_snapshot or snapshot, crawler, quiet, intent, must_have_read=True) as site:
        spoken = spoken_of(site)
        after = _under(site, robots) if robots else site
        found = drafts.draft(after, gzip or (is_file and output.suffix == ".gz"), split)
        if robots:
            after.close()
    if not found.files:
        raise UsageError("no page is both open and wanted: state what you want in an intent file (indrel intent draft)")
    if is_file and len(found.files) > 1:
        raise UsageError(
            f"{output}: the draft needs {len(found.files)} files, so name a folder: -o {output.name.partition('.')[0]}/"
        )
    written = {output if is_file else output / name: octets for name, octets in found.files.items()}
    (output.parent if is_file else output).mkdir(parents=True, exist_ok=True)
    for file, octets in written.items():
        write_whole(file, octets)
    term = terminal()
    files = f" in {plural(len(found.files), 'file')}" if len(found.files) > 1 else ""
    dates = (
        f"; {found.dated:,} with a date" if found.dated else "; no page shows when it changed, so there are no dates"
    )
    place = next((file for file in written if file.name == "sitemap.xml"), output)
    term.line(f"{spoken}: {plural(found.entries, 'URL')} in {place}{files}{dates}.", "bold")
    if found.implied:
        term.line("No intent file states what you want, so every open page of an ordinary kind is included.", "yellow")
    for line in drafts.dropped(found):
        term.line(line)
    if found.left_out:
        term.line("Excluded, although listed or wanted now:")
    for line in drafts.shown(found):
        term.line(line, indent=2, hang=2)


def _under(site: Site, robots: Path) -> Site:
    """The same site as if another robots.txt were in place."""
    from indrel.ask.robots.loaded import read_file
    from indrel.base.errors import InputError
    from indrel.decide.site import Site
    from indrel.snapshot import Snapshot

    try:
        body = read_file(robots)
    except OSError as error:
        raise InputError(f"{robots} cannot be read: {error.strerror}") from error
    return Site(Snapshot(site.snapshot.path), site.crawlers, {site.base_origin: (body, str(robots))}, site.intent)


@draft.command("robots", cls=Command)
def robots(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    output: FileOption = None,
    with_headers: Annotated[
        bool, typer.Option("--with-headers", help="Assume that the headers of `indrel draft headers` are in place.")
    ] = False,
    host: Annotated[
        str | None,
        typer.Option("--host", metavar="HOST", help="One of the site's hosts.", show_default="the main host"),
    ] = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Propose a robots.txt that blocks no wanted page.

    It shows each changed line, why, and what that does.
    """
    from indrel.ask.drafts import robots as drafts
    from indrel.ask.robots.impact import impact
    from indrel.base.files import write_whole
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural, verb
    from indrel.decide.site import Site
    from indrel.snapshot import Snapshot

    term = terminal()
    with opened(from_snapshot or snapshot, crawler, quiet, intent, must_have_read=True) as site:
        origin = drafts.origin_named(site, host)
        spoken = spoken_of(site) + (f", {origin}" if host else "")
        found, others = drafts.draft(site, with_headers, origin), drafts.other_hosts(site, origin)
        after = Site(Snapshot(site.snapshot.path), site.crawlers, {origin: (found.body, "the draft")}, site.intent)
        effect = impact(site, after)
        after.close()
    if output:
        output.parent.mkdir(parents=True, exist_ok=True)
        write_whole(output, found.body)
        say(f"written: {output}", quiet)
    if not found.difference:
        term.line(f"{spoken}: robots.txt needs no change: it blocks no wanted page.", "bold")
    else:
        freed = sum(1 for c in effect.changes if c.before == "barred")
        known = f"tried on {effect.known:,} known URLs for {plural(len(site.crawlers), 'crawler')}"
        term.line(
            f"{spoken}: {plural(freed, 'more URL')} can be fetched, and no more are blocked ({known}).",
            "bold",
        )
    for other, blocked in others:
        what = f"robots.txt of {other} blocks {plural(blocked, 'wanted URL')} too: indrel draft robots --host {other}"
        term.line(what, "yellow", indent=2, hang=2)
    for reason in found.reasons:
        term.line(reason, indent=2, hang=2)
    if found.difference:
        term.console.print()
    for line in found.difference:
        style = "green" if line.startswith("+") else "red" if line.startswith("-") else "dim"
        term.pieces((line, style))
    if found.need_noindex and not with_headers:
        term.console.print()
        count = plural(len(found.need_noindex), "URL")
        term.line(
            f"{count} that you want hidden {verb(len(found.need_noindex), 'needs', 'need')} noindex instead (indrel draft headers), "
            "because robots.txt cannot hide a page. Once they have it, draft again with --with-headers.",
            "yellow",
        )
        term.line(", ".join(found.need_noindex[:3]) + (" ..." if len(found.need_noindex) > 3 else ""), indent=2)


@draft.command("headers", cls=Command)
def headers(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    output: Annotated[
        Path | None,
        typer.Option(
            "-o", "--output", metavar="DIR", help="Write indrel-nginx.conf and indrel-apache.conf to this folder."
        ),
    ] = None,
    intent: opt.IntentOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Propose header rules that hide unwanted pages.

    Lines for nginx and Apache httpd that send `X-Robots-Tag` by pattern.
    """
    from indrel.ask.drafts import headers as drafts
    from indrel.base.files import write_whole
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural

    with opened(from_snapshot or snapshot, None, quiet, intent, must_have_read=True) as site:
        found = drafts.draft(site)
        spoken = spoken_of(site)
        where = site.intent.where
    if not found.nginx:
        wish = 'as match = "/tag/*", want = "hide"'
        raise UsageError(
            f"{where}: no entry with a pattern wants URLs hidden; add one, such {wish}"
            if where
            else f"no intent file states which pages you want hidden, and no unwanted page is open; write one, with entries such {wish}"
        )
    term = terminal()
    if found.inferred:
        pages = plural(sum(count for _, _, count in found.patterns), "unwanted page")
        say(
            f"no intent file wants pages hidden, so this is for the {pages} that the audit found open; keep what you agree with",
            quiet,
        )
    if output:
        output.mkdir(parents=True, exist_ok=True)
        for name, text in (("indrel-nginx.conf", found.nginx), ("indrel-apache.conf", found.apache)):
            write_whole(output / name, text.encode())
            say(f"written: {output / name}", quiet)
    else:
        what = "unwanted pages that are open" if found.inferred else "pages that you want hidden"
        out_console().file.write(
            f"# {spoken}: {what}\n# ---- nginx\n{found.nginx}\n# ---- Apache httpd\n{found.apache}"
        )
    for pattern, text, count in found.patterns:
        term.line(
            f"{text}: {pattern} ({plural(count, 'known URL needs', 'known URLs need')} it now)",
            indent=2,
            hang=2,
        )
    for entry in found.without:
        say(f"skipped: {where}:{entry.line} {entry.text}: a URL alone does not show whether it applies", quiet)


@draft.command("tickets", cls=Command)
def tickets(
    output: Annotated[
        list[Path],
        typer.Option(
            "-o", "--output", metavar="DIR|FILE", help="A folder for Markdown files, or a .csv or .json. Repeatable."
        ),
    ],
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Write one ticket per cause.

    For the person who fixes it: what is wrong, where, what instead, and how to check.
    """
    from indrel.base.files import write_whole
    from indrel.checks import verdict_of
    from indrel.checks.headline import spoken_of
    from indrel.core.model import listing, plural
    from indrel.reports import tickets as drafts

    forms = {".csv": drafts.as_csv, ".json": drafts.as_json}
    with opened(from_snapshot or snapshot, crawler, quiet, intent, must_have_read=True) as site:
        found = drafts.draft(verdict_of(site), site)
        spoken = spoken_of(site)
    for place in output:
        if place.suffix.lower() in forms and not place.is_dir():
            write_whole(place, forms[place.suffix.lower()](found))
            continue
        place.mkdir(parents=True, exist_ok=True)
        for ticket in found:
            write_whole(place / ticket.name, ticket.text.encode("utf-8", "backslashreplace"))
    where = listing([str(place) for place in output])
    terminal().line(f"{spoken}: {plural(len(found), 'ticket')} in {where}, numbered by severity.", "bold")
