"""`indrel intent`: what the owner wants, shown, checked and drafted."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import options as opt
from indrel.cli.console import out_console, say, terminal, write_json
from indrel.cli.help import Command
from indrel.cli.output_option import answers
from indrel.cli.snapshots import newest, opened

intent = typer.Typer(
    help="Draft, show and check what you want of your URLs.", no_args_is_help=True, rich_markup_mode=None
)


@intent.command("draft", cls=Command)
def draft(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    file: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    output: Annotated[
        Path | None, typer.Option("-o", "--output", metavar="FILE", help="Write it to a new file.")
    ] = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Propose a first intent file from an audit.

    It has an entry per section and kind, with its state and a want.
    """
    from indrel.ask import intent as tool

    with opened(from_snapshot or snapshot, crawler, quiet, file) as site:
        text = tool.draft(site)
    if output:
        tool.write_draft(output, text)
        say(f"written: {output}; edit it, then audit again", quiet)
    else:
        out_console().file.write(text)


@intent.command("show", cls=Command)
@answers
def show(
    urls: Annotated[list[str], typer.Argument(metavar="URL...", help="URLs, or paths on the snapshot's site.")],
    file: opt.IntentOption = None,
    snapshot: opt.FromOption = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Show which entry decides the want of a URL.

    The entries that it overrules are shown too.
    """
    from indrel import pipeline
    from indrel.ask import intent as tool
    from indrel.base.errors import SnapshotError
    from indrel.checks.headline import spoken_of
    from indrel.core.address import normalise

    wants = pipeline.load_intent(file)
    try:
        site = pipeline.open_site(snapshot or newest(quiet=quiet), None, wants)
    except SnapshotError:
        if snapshot:
            raise
        site = None
    term = terminal()
    if site and not json:
        term.line(f"{spoken_of(site)}:")
    for text in urls:
        if site is None and "://" not in text:
            raise UsageError(f"{text} is a path: name a snapshot (--from) or give the whole URL")
        url = pipeline.page_address(text, site) if site else normalise(text)
        if url is None:
            raise UsageError(f"{text} is not a URL")
        found = tool.show(site.intent if site else wants, url, site)
        if json:
            write_json(found.as_json())
            continue
        how = "" if found.stated else " (inferred)" if found.want != "any" else " (not stated)"
        term.line(f"{found.url}: {found.want}{how}; kind {found.kind}", "bold")
        where = site.intent.where if site else wants.where
        if found.entry:
            because = f"  ({found.entry.because})" if found.entry.because else ""
            term.line(f"decided by  {where}:{found.entry.line}  {found.entry.text}{because}", indent=2, hang=12)
        for entry in found.shadows:
            term.line(f"overrules   {where}:{entry.line}  {entry.text}", "dim", indent=2, hang=12)
    if site:
        site.close()


@intent.command("check", cls=Command)
@answers
def check(
    snapshot: opt.SnapshotArgument = None,
    from_snapshot: opt.FromOption = None,
    file: opt.IntentOption = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """List entries of the intent file without effect.

    They match nothing, are always overruled, or contradict each other.
    """
    from indrel.ask import intent as tool
    from indrel.checks import verdict_of
    from indrel.checks.headline import spoken_of
    from indrel.core.model import plural

    with opened(from_snapshot or snapshot, None, quiet, file) as site:
        if not site.intent.where:
            raise UsageError("there is no intent file: name one with --intent, or write one with `indrel intent draft`")
        found = tool.check(site, verdict_of(site).findings)
        where, entries = site.intent.where, len(site.intent.wants)
        decided, known = tool.reach(site)
        spoken = spoken_of(site)
    if json:
        document = {"entries": entries, "decided": decided, "known": known, "problems": [i.as_json() for i in found]}
        write_json(document)
    else:
        term = terminal()
        said = plural(
            len(found), "entry has no effect or contradicts another", "entries have no effect or contradict others"
        )
        summary = said if found else "every entry has an effect"
        term.line(
            f"{spoken}: {summary} in {where}; {plural(entries, 'want')} decide {decided:,} of {known:,} known URLs.",
            "bold",
        )
        for idle in found:
            term.line(f"{where}:{idle.line}  {idle.text}: {idle.problem}", indent=2, hang=4)
    raise typer.Exit(1 if found else 0)
