"""`indrel draft`: proposed files, proven on every known address before they are written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import options as opt
from indrel.cli.console import out_console, say, terminal
from indrel.cli.snapshots import opened

if TYPE_CHECKING:
    from indrel.decide.site import Site

draft = typer.Typer(
    help="Propose files that hold what you want: robots, sitemap, headers, tickets.",
    no_args_is_help=True,
    rich_markup_mode=None,
)

FolderOption = Annotated[Path, typer.Option("-o", "--output", metavar="DIR", help="The folder to write to.")]
FileOption = Annotated[
    Path | None, typer.Option("-o", "--output", metavar="FILE", help="Write the file; without, it is only shown.")
]


@draft.command("sitemap")
def sitemap(
    output: Annotated[
        Path,
        typer.Option("-o", "--output", metavar="DIR", help="The folder to write to, or the file, if one holds it all."),
    ],
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    robots: Annotated[
        Path | None,
        typer.Option("--robots", metavar="FILE", help="As if this robots.txt were in place (a draft, say)."),
    ] = None,
    gzip: Annotated[bool, typer.Option("--gzip", help="Pack the files.")] = False,
    split: Annotated[
        bool, typer.Option("--split", help="One file a section, with an index, however few entries.")
    ] = False,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Write a sitemap of what is open, wanted and final; say what was left out and why."""
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
        raise UsageError(
            "no address is both open and wanted: say what you want in an intent file (indrel intent draft)"
        )
    if is_file and len(found.files) > 1:
        raise UsageError(
            f"{output}: the draft takes {len(found.files)} files, so give a folder: -o {output.name.partition('.')[0]}/"
        )
    written = {output if is_file else output / name: octets for name, octets in found.files.items()}
    (output.parent if is_file else output).mkdir(parents=True, exist_ok=True)
    for file, octets in written.items():
        write_whole(file, octets)
    term = terminal()
    files = f" in {plural(len(found.files), 'file')}" if len(found.files) > 1 else ""
    dates = f"; {found.dated:,} with a date" if found.dated else "; none shows when it changed, so there are no dates"
    place = next((file for file in written if file.name == "sitemap.xml"), output)
    term.line(f"{spoken}: {plural(found.entries, 'address', 'addresses')} in {place}{files}{dates}.", "bold")
    if found.implied:
        term.line("Nothing states what is wanted, so every open page of a plain kind is in it.", "yellow")
    if found.left_out:
        term.line("Left out, though listed or wanted now:")
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


@draft.command("robots")
def robots(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    output: FileOption = None,
    with_headers: Annotated[
        bool, typer.Option("--with-headers", help="As if the headers of `indrel draft headers` were in place.")
    ] = False,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Propose a robots.txt that blocks nothing wanted; show what changes, why, and what that does."""
    from indrel.ask.drafts import robots as drafts
    from indrel.ask.robots.impact import impact
    from indrel.base.files import write_whole
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural
    from indrel.decide.site import Site
    from indrel.snapshot import Snapshot

    term = terminal()
    with opened(from_snapshot or snapshot, crawler, quiet, intent, must_have_read=True) as site:
        spoken = spoken_of(site)
        found = drafts.draft(site, with_headers)
        after = Site(
            Snapshot(site.snapshot.path), site.crawlers, {site.base_origin: (found.body, "the draft")}, site.intent
        )
        effect = impact(site, after)
        after.close()
    if output:
        output.parent.mkdir(parents=True, exist_ok=True)
        write_whole(output, found.body)
        say(f"written: {output}", quiet)
    if not found.difference:
        term.line(f"{spoken}: robots.txt stays as it is, it bars nothing that is wanted.", "bold")
    else:
        freed = sum(1 for c in effect.changes if c.before == "barred")
        known = f"{effect.known:,} known addresses decided for {plural(len(site.crawlers), 'crawler')}"
        term.line(
            f"{spoken}: {plural(freed, 'address', 'addresses')} can be fetched again, none is barred anew; {known}.",
            "bold",
        )
    for reason in found.reasons:
        term.line(reason, indent=2, hang=2)
    if found.difference:
        term.console.print()
    for line in found.difference:
        style = "green" if line.startswith("+") else "red" if line.startswith("-") else "dim"
        term.pieces((line, style))
    if found.need_noindex and not with_headers:
        term.console.print()
        count = plural(len(found.need_noindex), "address", "addresses")
        term.line(
            f"{count} to be hidden need noindex instead (indrel draft headers): robots.txt cannot hide a page. Once they "
            "have it, draft again --with-headers.",
            "yellow",
        )
        term.line(", ".join(found.need_noindex[:3]) + (" ..." if len(found.need_noindex) > 3 else ""), indent=2)


@draft.command("headers")
def headers(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    output: Annotated[
        Path | None,
        typer.Option("-o", "--output", metavar="DIR", help="Write indrel-nginx.conf and indrel-apache.conf."),
    ] = None,
    intent: opt.IntentOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Propose server configuration that sends X-Robots-Tag to what should be hidden, by patterns."""
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
            f"{where}: no entry with a pattern of addresses wants them hidden: add one, such {wish}"
            if where
            else f"there is no intent file that says what is to be hidden: write one (indrel intent draft), with entries such {wish}"
        )
    term = terminal()
    if output:
        output.mkdir(parents=True, exist_ok=True)
        for name, text in (("indrel-nginx.conf", found.nginx), ("indrel-apache.conf", found.apache)):
            write_whole(output / name, text.encode())
            say(f"written: {output / name}", quiet)
    else:
        out_console().file.write(
            f"# {spoken}: what is to be hidden\n# ---- nginx\n{found.nginx}\n# ---- Apache httpd\n{found.apache}"
        )
    for pattern, text, count in found.patterns:
        term.line(
            f"{text}: {pattern} ({plural(count, 'known address needs', 'known addresses need')} it now)",
            indent=2,
            hang=2,
        )
    for entry in found.without:
        say(f"left out: {where}:{entry.line} {entry.text}: addresses alone do not tell what it holds for", quiet)


@draft.command("tickets")
def tickets(
    output: FolderOption,
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Write one Markdown file a cause, for anyone who is to fix it: what is wrong, where, what instead, how to check."""
    from indrel.base.files import write_whole
    from indrel.checks import verdict_of
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural
    from indrel.reports import tickets as drafts

    with opened(from_snapshot or snapshot, crawler, quiet, intent, must_have_read=True) as site:
        found = drafts.draft(verdict_of(site), site)
        spoken = spoken_of(site)
    output.mkdir(parents=True, exist_ok=True)
    for name, octets in found.items():
        write_whole(output / name, octets)
    terminal().line(f"{spoken}: {plural(len(found), 'ticket')} in {output}, the gravest first by number.", "bold")
