"""`indrel ledger`: what was requested from an engine, and when."""

from __future__ import annotations

import json as json_module
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import complete
from indrel.cli import options as opt
from indrel.cli.console import out_console, say, terminal, write_json
from indrel.cli.help import Command
from indrel.cli.output_option import answers
from indrel.cli.snapshots import newest, opened

if TYPE_CHECKING:
    from indrel.decide.site import Site
    from indrel.ledger.book import Asked, Ledger, Request
    from indrel.ledger.choose import Standing
    from indrel.reports.terminal import Terminal

ledger = typer.Typer(
    help="Track recrawl requests and removals that expire.",
    no_args_is_help=True,
    rich_markup_mode=None,
)

BookOption = Annotated[Path, typer.Option("--ledger", metavar="FILE", help="The ledger file.")]
BOOK = Path("indrel.ledger")
FEW = 3
DayOption = Annotated[
    str | None,
    typer.Option("--today", "--on", metavar="DATE", help="The date, such as 2026-11-23.", show_default="today"),
]
OptionalUrls = Annotated[list[str] | None, typer.Argument(metavar="[URL]...", show_default=False)]


def _day(text: str | None) -> date:
    try:
        return date.fromisoformat(text) if text else date.today()
    except ValueError as error:
        raise UsageError(f"--today {text}: write a date such as 2026-11-23") from error


@ledger.command("request", cls=Command)
def request(
    urls: OptionalUrls = None,
    files: Annotated[
        list[Path] | None, typer.Option("--urls", metavar="FILE", help="URLs from a file, one per line.")
    ] = None,
    since: Annotated[
        Path | None,
        typer.Option("--since", metavar="SNAPSHOT", help="URLs that got better since this audit."),
    ] = None,
    check: Annotated[
        list[str] | None,
        typer.Option(
            "--check",
            metavar="ID",
            help="URLs with this finding. Repeatable.",
            autocompletion=complete.checks,
        ),
    ] = None,
    snapshot: opt.FromOption = None,
    crawler: Annotated[
        str | None,
        typer.Option("--crawler", metavar="NAME", help="The crawler of the engine; states are judged for it."),
    ] = None,
    again: Annotated[
        bool,
        typer.Option("--again", help="Request URLs again that were on an earlier list; undone ones wait again."),
    ] = False,
    allowance: Annotated[
        int | None,
        typer.Option("--allowance", min=1, metavar="N", help="URLs per day (10 at first); stored in the ledger."),
    ] = None,
    output: Annotated[
        Path | None,
        typer.Option("-o", "--output", metavar="FILE", help="Write today's list to a file, one URL per line."),
    ] = None,
    book: BookOption = BOOK,
    on: DayOption = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Queue URLs for a recrawl and show today's list.

    The most harmful URLs come first, then the most linked ones. No URL is on the lists of two days.
    """
    from indrel.ledger import Ledger
    from indrel.ledger.book import site_of_url

    today = _day(on)
    asked, left, subject = _asked(urls, files, since, check, snapshot, crawler, quiet)
    with Ledger(book) as found:
        if allowance:
            found.allowance = allowance
        back = found.put_back(today) if again else 0
        taken = found.request(asked, today, again)
        sites = {site_of_url(one.url) for one in asked} | {site_of_url(url) for url in left}
        listed, queue, late = (
            [one for one in those if not sites or site_of_url(one.url) in sites]
            for those in (found.give_out(today), found.waiting(), found.undone(today))
        )
        waiting, limit = len(queue), found.allowance
    if output:
        from indrel.base.files import write_whole

        write_whole(output, "".join(f"{r.url}\n" for r in listed if not r.done).encode())
        say(f"written: {output}", quiet)
    if json:
        document = {
            "day": today.isoformat(), "allowance": limit, "today": [r.as_json() for r in listed], "added": taken.added,
            "waiting": waiting, "asked_before": [r.as_json() for r in taken.asked], "put_back": back, "of_no_use": left,
        }  # fmt: skip
        write_json(document)
        return
    _show_list(listed, today, limit, waiting, subject)
    for url, state in list(left.items())[:FEW]:
        say(f"not requested: {url} is {state}, so a recrawl would change nothing", quiet)
    if len(left) > FEW:
        say(f"not requested: {len(left) - FEW:,} more that are blocked or broken", quiet)
    old = [r for r in taken.asked if r.listed != today.isoformat()]
    for one in old[:FEW]:
        say(f"not requested: {one.url} was on the list of {one.listed} (--again requests it again)", quiet)
    if len(old) > FEW:
        say(f"not requested: {len(old) - FEW:,} more that were on earlier lists", quiet)
    if late:
        say(
            f"{len(late):,} of earlier lists are not done: `indrel ledger done` marks them, --again puts them back",
            quiet,
        )


def _show_list(listed: list[Request], today: date, limit: int, waiting: int, subject: str) -> None:
    from indrel.core.address import site_key
    from indrel.core.model import listing, plural

    term = terminal()
    due = [r for r in listed if not r.done]
    subject = subject or listing(sorted({site_key(r.url) for r in listed})[:3])
    if not listed:
        term.line(f"{subject + ': ' if subject else ''}nothing to request on {today}.", "bold")
        return
    done = f", {len(listed) - len(due):,} done" if len(due) < len(listed) else ""
    full = "" if len(listed) < limit else f", the allowance of {limit:,} is used up"
    term.line(
        f"{subject}: {plural(len(due), 'URL')} to request on {today}{done}, {waiting:,} waiting{full}.",
        "bold",
    )
    for one in due:
        term.line(one.url, indent=2)
        if one.why:
            term.line(one.why, "dim", indent=6)


def _asked(
    urls: list[str] | None,
    files: list[Path] | None,
    since: Path | None,
    check: list[str] | None,
    snapshot: Path | None,
    crawler: str | None,
    quiet: bool,
) -> tuple[list[Asked], dict[str, str], str]:
    """The URLs of the command line, most harmful first; those for which a recrawl is useless, by state; and the audit's name."""
    from indrel.core.address import normalise
    from indrel.ledger.book import Asked

    whole = [*(urls or ()), *opt.read_addresses(files)]
    if not (since or check or snapshot or crawler or any("://" not in u for u in whole)):
        found = {}
        for text in whole:
            url = normalise(text)
            if url is None:
                raise UsageError(f"{text} is not a URL")
            found[url] = Asked(url)
        return list(found.values()), {}, ""
    from indrel import pipeline
    from indrel.checks.headline import spoken_of
    from indrel.ledger.choose import by_harm, useless

    with opened(snapshot, [crawler] if crawler else None, quiet) as site:
        asked = [Asked(pipeline.page_address(text, site), harm=_NAMED) for text in whole] + _chosen(site, since, check)
        asked = by_harm(site, asked)
        left = useless(site, [a.url for a in asked])
        return [a for a in asked if a.url not in left], left, spoken_of(site)


_NAMED = 150
"""Harm of a URL that was named: before indifferent changes, after URLs that are exposed or blocked."""


def _chosen(site: Site, since: Path | None, check: list[str] | None) -> list[Asked]:
    from indrel import pipeline
    from indrel.ask.sides import Sides
    from indrel.checks import verdict_of
    from indrel.ledger import choose

    asked: list[Asked] = []
    opt.check_ids(check)
    if check:
        asked += choose.from_findings(f for f in verdict_of(site).findings if f.check in check and not f.accepted)
    if since:
        before = pipeline.open_site(since, [c.token for c in site.crawlers], site.intent)
        try:
            asked += choose.from_changes(Sides(before, site).states)
        finally:
            before.close()
    return asked


@ledger.command("done", cls=Command)
def done(
    urls: OptionalUrls = None,
    book: BookOption = BOOK,
    on: DayOption = None,
    json: opt.JsonOption = False,
) -> None:
    """Mark URLs as requested from the engine.

    Without URLs, all that were listed and are not done are marked.
    """
    from indrel.core.address import normalise
    from indrel.core.model import plural
    from indrel.ledger import Ledger

    named = [normalise(u) or u for u in urls] if urls else None
    with Ledger(book, make=False) as found:
        marked, unknown = found.mark_done(_day(on), named)
        waiting = len(found.waiting())
    if unknown:
        raise UsageError(f"{book} has no {unknown[0]}" + (f" and {len(unknown) - 1:,} more" if unknown[1:] else ""))
    if json:
        write_json({"marked": marked, "waiting": waiting})
    else:
        terminal().line(f"{plural(len(marked), 'URL')} marked as requested, {waiting:,} waiting.", "bold")


@ledger.command("removal", cls=Command)
def removal(
    address: Annotated[str, typer.Argument(metavar="URL", help="A URL, or a prefix that ends in *.")],
    days: Annotated[int, typer.Option("--days", min=1, metavar="N", help="Days until it expires.")] = 180,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="The reason.")] = "",
    lift: Annotated[bool, typer.Option("--lift", help="Remove it from the ledger.")] = False,
    book: BookOption = BOOK,
    on: DayOption = None,
) -> None:
    """Record that an engine was asked to remove URLs.

    Name a URL or a prefix. `status` warns before the removal expires.
    """
    from indrel.core.address import normalise
    from indrel.ledger import Ledger

    url = normalise(address.removesuffix("*"))
    if url is None:
        raise UsageError(f"{address} is not a URL: write it like https://www.sarnfell.example/old/*")
    url += "*" if address.endswith("*") else ""
    with Ledger(book, make=not lift) as found:
        if lift:
            if not found.forget_removal(url):
                raise UsageError(f"{book} has no removal of {url}")
            terminal().line(f"{url} is removed from the ledger.", "bold")
            return
        noted = found.remove(url, _day(on), days, because)
    terminal().line(f"{noted.address}: requested on {noted.asked}, expires on {noted.lapses}.", "bold")


@ledger.command("status", cls=Command)
@answers
def status(
    book: BookOption = BOOK,
    snapshot: opt.FromOption = None,
    warn: Annotated[
        int, typer.Option("--warn", min=0, metavar="N", help="Warn this many days before a removal expires.")
    ] = 30,
    on: DayOption = None,
    json: opt.JsonOption = False,
    quiet: opt.QuietOption = False,
) -> None:
    """Show requests due, waiting and done, and removals.

    A removal that expires before anything lasting is in place is a warning.
    """
    from indrel.ledger import Ledger
    from indrel.ledger.choose import standings

    today = _day(on)
    with Ledger(book, make=False) as found:
        removals = found.removals()
        with _opened_if_any(snapshot, quiet) if removals else nullcontext() as site:
            standing = standings(removals, today, site)
        due = [s for s in standing if s.days_left <= warn and s.nothing_lasting]
        if json:
            document = {
                "day": today.isoformat(), "allowance": found.allowance, "given_out": [r.as_json() for r in found.undone()],
                "waiting": [r.as_json() for r in found.waiting()], "done": [r.as_json() for r in found.done()],
                "removals": [s.as_json() for s in standing],
            }  # fmt: skip
            write_json(document)
        else:
            _show_status(found, today, standing, warn)
    raise typer.Exit(1 if due else 0)


@contextmanager
def _opened_if_any(snapshot: Path | None, quiet: bool) -> Iterator[Site | None]:
    """The snapshot named, or the newest; None where there is none."""
    from indrel.base.errors import SnapshotError

    try:
        path = snapshot or newest(quiet=quiet)
    except SnapshotError:
        yield None
        return
    with opened(path, None, quiet) as site:
        yield site


def _show_status(book: Ledger, today: date, standing: list[Standing], warn: int) -> None:
    from indrel.core.model import plural
    from indrel.ledger.book import site_of_url

    term = terminal()
    undone, waiting, done = book.undone(), book.waiting(), book.done()
    sites = sorted({site_of_url(r.url) for r in [*undone, *waiting, *done]})
    for site in sites or [""]:
        mine, queue, ended = ([r for r in those if site_of_url(r.url) == site] for those in (undone, waiting, done))
        room = max(0, book.allowance - sum(r.listed == today.isoformat() for r in [*mine, *ended]))
        days = -(-len(queue) // book.allowance)
        more = f" ({plural(days, 'more day')} at {book.allowance:,} per day)" if queue else ""
        name = f"{site}, {today}" if len(sites) > 1 else f"{today}"
        term.line(
            f"{name}: {len(mine):,} listed and not done, {len(queue):,} waiting{more}, {len(ended):,} done. "
            f"{room:,} more can be requested today.",
            "bold",
        )
    late = [r for r in undone if r.listed != today.isoformat()]
    for one in late[:10]:
        term.line(f"listed on {one.listed}, not done: {one.url}", "bold yellow", indent=2, hang=4)
    if standing:
        term.console.print()
        term.line("Removals", "bold")
    for one_standing in standing:
        _show_removal(term, one_standing, warn)


def _show_removal(term: Terminal, standing: Standing, warn: int) -> None:
    from indrel.core.model import plural

    removal, left = standing.removal, standing.days_left
    when = f"expired on {removal.lapses}" if left < 0 else f"expires on {removal.lapses}, in {plural(left, 'day')}"
    soon = left <= warn
    if standing.known is None:
        told, style = "without a snapshot, what is in place is unknown", "yellow" if soon else "dim"
    elif not standing.known:
        told, style = "the snapshot has no such URL, so what is in place is unknown", "yellow" if soon else "dim"
    elif standing.nothing_lasting:
        bare = standing.known - standing.lasting
        share = "" if standing.known == 1 else f" for {bare:,} of {plural(standing.known, 'URL')}"
        told = f"nothing lasting is in place{share}: {standing.example}"
        style = "bold red" if soon else "yellow"
    else:
        every = "the URL" if standing.known == 1 else f"all {standing.known:,} URLs"
        told, style = f"{every} will stay out of the results", "green"
    term.line(f"{removal.address}  {when}: {told}", style, indent=2, hang=4)


@ledger.command("send", cls=Command)
def send(
    to: Annotated[str, typer.Option("--to", metavar="ENDPOINT", help="The endpoint; nothing is sent anywhere else.")],
    key: Annotated[
        str, typer.Option("--key", metavar="KEY", envvar="INDREL_INDEXNOW_KEY", help="The key of the host.")
    ],
    key_location: Annotated[
        str | None,
        typer.Option("--key-location", metavar="URL", help="The URL of the key file.", show_default="/KEY.txt"),
    ] = None,
    dry: Annotated[bool, typer.Option("--dry-run", help="Show what would be sent, and send nothing.")] = False,
    timeout: opt.TimeoutOption = 20.0,
    book: BookOption = BOOK,
    on: DayOption = None,
    quiet: opt.QuietOption = False,
) -> None:
    """Send today's list to an IndexNow endpoint.

    What the endpoint accepts is marked as done.
    """
    from indrel.core.address import split
    from indrel.core.model import plural
    from indrel.ledger import Ledger
    from indrel.ledger.send import bodies, check, deliver

    endpoint = check(to, key, key_location)
    today = _day(on)
    with Ledger(book, make=False) as found:
        due = [r.url for r in found.give_out(today) if not r.done]
        if not due:
            terminal().line(f"{today}: nothing to send.", "bold")
            return
        for body in bodies(due, key, key_location):
            if dry:
                out_console().file.write(json_module.dumps(body, ensure_ascii=False, indent=2) + "\n")
                continue
            deliver(endpoint, body, timeout)
            sent = [str(u) for u in body["urlList"]]  # type: ignore[attr-defined]
            found.mark_done(today, sent, f"sent to {split(endpoint).host}")
            terminal().line(f"{plural(len(sent), 'URL')} of {body['host']} sent.", "bold")
