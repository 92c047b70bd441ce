"""`indrel robots`: robots.txt on its own, checked, matched, compared, shown crawler by crawler."""

from __future__ import annotations

import json as json_module
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import InputError, UsageError
from indrel.cli import options as opt
from indrel.cli.checked import code_of
from indrel.cli.console import out_console, say, terminal, write_json
from indrel.cli.help import Command
from indrel.cli.matrix import matrix
from indrel.cli.output_option import answers
from indrel.cli.snapshots import OWN, newest, require_read, robots_of

if TYPE_CHECKING:
    from indrel.ask.robots.impact import Impact
    from indrel.ask.robots.loaded import Loaded
    from indrel.ask.robots.match import Match
    from indrel.checks.rule_use import RuleUse
    from indrel.core.crawlers import Crawler
    from indrel.core.model import Finding
    from indrel.sources.options import GatherOptions

robots = typer.Typer(help="Check, match and compare robots.txt files.", no_args_is_help=True, rich_markup_mode=None)

SOURCES = "a URL, a snapshot, the word `snapshot` for that of the audit, or - for standard input."
FileArgument = Annotated[str, typer.Argument(metavar="FILE_OR_URL", help=f"A file, {SOURCES}")]
FilesArgument = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[FILE_OR_URL]...", help=f"A file, {SOURCES}", show_default="with --from: that of the audit"
    ),
]
UrlsOption = Annotated[
    Path | None, typer.Option("--urls", metavar="FILE", help="URLs from a file, one per line (- for standard input).")
]
MOST_SHOWN = 20
"""Rules of one kind that are reported one by one."""


def _options(connect: list[str] | None, timeout: float) -> GatherOptions:
    from indrel.sources.options import GatherOptions

    return GatherOptions(crawlers=(), rate=0, timeout=timeout, connect=opt.parse_connect(connect))


def _crawlers(names: list[str] | None) -> tuple[Crawler, ...]:
    from indrel.core import crawlers

    opt.doubt_crawlers(names, False)
    return crawlers.resolve(names or crawlers.DEFAULT)


@robots.command("check", cls=Command)
@answers
def check(
    files: FilesArgument = None,
    snapshot: Annotated[
        Path | None, typer.Option("--from", metavar="SNAPSHOT", help="Also check against the URLs of this audit.")
    ] = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    fail_on: opt.FailOnOption = "fix",
    connect: opt.ConnectOption = None,
    timeout: opt.TimeoutOption = 20.0,
    quiet: opt.QuietOption = False,
) -> None:
    """Check each line of a robots.txt, and what to write.

    With --from, the rules are also applied to the known URLs of an audit.
    """
    from indrel.ask.robots.check import check
    from indrel.ask.robots.loaded import load
    from indrel.base.files import is_snapshot
    from indrel.core.model import plural

    opt.fail_word(fail_on)
    if not files and snapshot is None:
        raise UsageError("name a robots.txt (a file, a URL, snapshot or -), or an audit with --from")
    codes = []
    for file in (robots_of(one, snapshot, quiet) for one in files or [OWN]):
        loaded = load(file, _options(connect, timeout))
        asked = snapshot or (Path(file) if is_snapshot(file) else None)
        checked = check(loaded, _crawlers(crawler), asked)
        checked.findings.sort(key=lambda f: (f.evidence[0].line or 0, -f.severity.value, f.check))
        if json:
            write_json(checked.as_json())
        else:
            _show_findings(checked.findings, loaded)
            _show_uses(checked.uses)
        codes.append(code_of(checked.findings, checked.crashed, fail_on))
        if asked is None:
            lines = plural(len(loaded.verdict.file.lines), "line")
            say(f"{lines} read; add --from SNAPSHOT to check them against known URLs", quiet)
    raise typer.Exit(max(codes))


def _show_uses(uses: list[RuleUse]) -> None:
    """What each rule does to the known URLs."""
    from indrel.reports.columns import table

    if uses:
        term = terminal()
        term.console.print()
        term.line("What the rules do on this site", "bold")
        rows = [
            [
                str(u.rule.line),
                u.rule.text,
                u.group,
                f"{u.decides:,}",
                f"{u.wanted:,}",
                f"{u.loses:,}" if u.loses else "",
            ]
            for u in uses
        ]
        table(term, ["line", "rule", "group", "decides", "wanted", "matches but loses"], rows)


def _show_findings(findings: list[Finding], loaded: Loaded) -> None:
    from collections import Counter

    from indrel.core.model import capital, plural
    from indrel.reports.terminal import STYLES, to_do

    term = terminal()
    said = to_do(f.severity for f in findings)
    rules = sum(len(g.rules) for g in loaded.verdict.file.groups)
    groups = plural(len(loaded.verdict.file.groups), "group")
    term.line(f"{loaded.where}: {said or 'no findings'} ({plural(rules, 'rule')} in {groups}).", "bold")
    alike: dict[tuple[str, str, str], list[Finding]] = {}
    told = Counter((f.check, f.evidence[0].text) for f in findings)
    for finding in findings:
        first = finding.evidence[0]
        place = first.text if told[finding.check, first.text] > MOST_SHOWN else str(first.line)
        alike.setdefault((finding.check, first.where, place), []).append(finding)
    groups_told = list(alike.values())  # one rule is reported once, however many URLs it matches
    for number, members in enumerate(groups_told):
        finding = members[0]
        first = finding.evidence[0]
        lines = list(dict.fromkeys(m.evidence[0].line for m in members))
        also = list(
            dict.fromkeys(
                u
                for m in members
                for u in (*((m.url,) if len(members) > 1 and not m.url.endswith("/robots.txt") else ()), *m.also)
            )
        )
        term.console.print()
        place = f"{first.where}:{first.line}" if first.line else first.where
        term.pieces((place, "bold"), (f"  {finding.severity.word} ", STYLES[finding.severity]), (finding.check, ""))
        if first.kind == "robots" and first.line:
            term.pieces((f"  {first.line:>4} | ", "dim"), (first.text, "bold"))
        after = finding.message.removeprefix(f"`{first.text}`")  # the line itself stands above
        term.line(f"It{after}" if after.startswith(" ") else capital(after.removeprefix(": ")), indent=9)
        if len(lines) > 1:
            term.line(f"and {plural(len(lines) - 1, 'more line')} like it, to line {lines[-1]}", indent=9)
        for more in finding.evidence[1:3]:
            term.pieces(
                ("         see     ", "dim"),
                (f"{more.where}:{more.line}  " if more.line else f"{more.where}  ", ""),
                (more.text, ""),
            )
        if also:
            rest = f" and {len(also) - 3:,} more" if len(also) > 3 else ""
            term.pieces(("         on      ", "dim"), (", ".join(also[:3]) + rest, ""))
        mend = _mend(finding)
        behind = groups_told[number + 1][0] if number + 1 < len(groups_told) else None
        if behind is None or (behind.check, _mend(behind)) != (finding.check, mend):  # of a run of the same, once
            term.line(f"fix     {mend}", "green", indent=9, hang=8)


def _mend(finding: Finding) -> str:
    from indrel.checks import checks

    return finding.advice or checks()[finding.check].mend


@robots.command("match", cls=Command)
@answers
def match(
    file: FileArgument,
    urls: Annotated[
        list[str] | None, typer.Argument(metavar="[URL]...", help="URLs or paths.", show_default=False)
    ] = None,
    urls_file: UrlsOption = None,
    snapshot: Annotated[
        Path | None, typer.Option("--from", metavar="SNAPSHOT", help="The audit that the word `snapshot` means.")
    ] = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    connect: opt.ConnectOption = None,
    timeout: opt.TimeoutOption = 20.0,
    quiet: opt.QuietOption = False,
) -> None:
    """Show which rule decides each URL, per crawler.

    A single URL also shows the rules that match and lose.
    """
    from indrel.ask.robots.loaded import load
    from indrel.ask.robots.match import match

    if snapshot is not None and file.startswith("/") and not Path(file).exists():
        file, urls = OWN, [file, *(urls or ())]  # with --from the file need not be named
    if not urls and urls_file is None:
        raise UsageError("name URLs or paths to match, or --urls FILE")
    loaded = load(robots_of(file, snapshot, quiet), _options(connect, timeout))
    crawlers = _crawlers(crawler)
    rows = match(loaded, _addresses(urls or [], urls_file, loaded), crawlers)
    if json:
        out = out_console().file
        for row in rows:
            for one in row:
                out.write(json_module.dumps(one.as_json(), ensure_ascii=False) + "\n")
    elif urls and len(urls) == 1 and urls_file is None:
        _show_one(next(rows), loaded, crawlers)
    else:
        _show_matches(list(rows), crawlers)
    if loaded.status is not None and loaded.status >= 400:
        say(f"{loaded.where} returns {loaded.status}: {loaded.verdict.access}", quiet)


def _addresses(given: list[str], file: Path | None, loaded: Loaded) -> Iterator[str]:
    """Normalised addresses from the command line, then from a file, as they are needed."""
    from indrel.ask.robots.loaded import to_url

    for text in given:
        url = to_url(text, loaded.origin)
        if url is None:
            raise UsageError(f"{text} is neither a URL nor a path")
        yield url
    if file is None:
        return
    try:
        with (
            open(0, encoding="utf-8", errors="replace")
            if str(file) == "-"
            else file.open(encoding="utf-8", errors="replace") as lines
        ):
            for number, line in enumerate(lines, 1):
                if line.strip():
                    url = to_url(line, loaded.origin)
                    if url is None:
                        raise InputError(f"{file}:{number}: {line.strip()[:80]!r} is neither a URL nor a path")
                    yield url
    except OSError as error:
        raise InputError(f"{file} cannot be read: {error.strerror}") from error


def _cell(one: Match) -> str:
    return ("allowed" if one.allowed else "barred") + (f" :{one.rule.line}" if one.rule else "")


def _shown_url(url: str) -> str:
    from indrel.ask.robots.loaded import NOWHERE

    return url.removeprefix(NOWHERE)


def _show_matches(rows: list[list[Match]], crawlers: tuple[Crawler, ...]) -> None:
    from indrel.reports.columns import table

    cells = []
    for row in rows:
        usual = row[-1].allowed
        cells.append([_shown_url(row[0].url), *(_cell(m) + (" <" if m.allowed is not usual else "") for m in row)])
    styles = {c: "magenta" if c.startswith("barred") else "green" for r in cells for c in r[1:]}
    styles |= {c: "bold reverse" for c in styles if c.endswith("<")}
    term = terminal()
    table(term, ["URL", *(c.token for c in crawlers)], cells, styles)
    for row in rows:
        for note in dict.fromkeys(m.note for m in row if m.note):
            term.line(f"{_shown_url(row[0].url)}: {note}", "yellow", hang=2)


def _show_one(row: list[Match], loaded: Loaded, crawlers: tuple[Crawler, ...]) -> None:
    from indrel.core.address import split
    from indrel.core.model import plural
    from indrel.core.robots import matching

    term = terminal()
    for one, crawler in zip(row, crawlers, strict=True):
        rules = loaded.verdict.ruleset(crawler)
        verb = "allowed" if one.allowed else "blocked"
        by = f" by `{one.rule.text}` (line {one.rule.line})" if one.rule else ": no rule matches"
        group = f", group {one.group}" if one.group else ", no group applies"
        term.line(
            f"{crawler.token}: {_shown_url(one.url)} is {verb}{by}{group}",
            "green" if one.allowed else "magenta",
            hang=2,
        )
        if one.note:
            term.line(one.note, "yellow", indent=2, hang=2)
        losers = matching(rules.rules, split(one.url).path)[1:] if one.rule else []
        for loser in losers[:MOST_SHOWN]:
            why = (
                "shorter"
                if one.rule and loser.pattern.length < one.rule.pattern.length
                else "as long, but not an Allow rule"
            )
            term.line(f"overridden: `{loser.text}` (line {loser.line}), {why}", "dim", indent=2)
        if len(losers) > MOST_SHOWN:
            term.line(
                f"also overridden: {plural(len(losers) - MOST_SHOWN, 'more rule')} that would match", "dim", indent=2
            )


@robots.command("impact", cls=Command)
@answers
def impact(
    old: Annotated[
        str, typer.Argument(metavar="OLD", help="A file, a URL, a snapshot, or the word `snapshot` for its own.")
    ],
    new: Annotated[str, typer.Argument(metavar="NEW", help="The same.")],
    snapshot: Annotated[
        Path | None,
        typer.Option("--from", metavar="SNAPSHOT", help="The audit whose URLs are decided.", show_default="the newest"),
    ] = None,
    urls_file: UrlsOption = None,
    crawler: opt.CrawlerOption = None,
    json: opt.JsonOption = False,
    connect: opt.ConnectOption = None,
    timeout: opt.TimeoutOption = 20.0,
    quiet: opt.QuietOption = False,
) -> None:
    """Show which known URLs change state if NEW goes live."""
    from indrel.ask.robots.impact import impact
    from indrel.ask.robots.loaded import Loaded, load
    from indrel.ask.robots.placed import in_place, of_list
    from indrel.base.files import is_snapshot
    from indrel.checks.headline import spoken_of

    if snapshot is None and (own := next((name for name in (old, new) if is_snapshot(name)), None)):
        snapshot, old, new = Path(own), *(OWN if name == own else name for name in (old, new))
    loaded = [None if name == OWN else load(name, _options(connect, timeout)) for name in (old, new)]
    crawlers = _crawlers(crawler)
    with tempfile.TemporaryDirectory() as folder:
        if urls_file is not None and snapshot is None:
            if None in loaded:
                raise UsageError("with --urls, OLD and NEW must be files or URLs")
            first, second = (one for one in loaded if one is not None)
            second = Loaded(first.origin, second.where, second.body)
            urls = list(_addresses([], urls_file, first))
            sites = [of_list(one, urls, crawlers, Path(folder)) for one in (first, second)]
        else:
            if snapshot is None:
                snapshot = newest(quiet=quiet)
            sites = [in_place(snapshot, crawlers, one) for one in loaded]
        try:
            if snapshot:
                require_read(sites[0])
            found = impact(*sites)
            origin, subject = sites[0].base_origin, spoken_of(sites[0]) if snapshot else ""
        finally:
            for site in sites:
                site.close()
    if json:
        write_json(found.as_json())
    else:
        _show_impact(found, origin, f"{subject}: " if subject else "")
    raise typer.Exit(1 if found.bars_wanted else 0)


def _show_impact(found: Impact, origin: str, subject: str) -> None:
    from indrel.core.model import plural
    from indrel.reports.columns import table
    from indrel.reports.terminal import short

    term = terminal()
    barred = [c for c in found.changes if c.after == "barred"]
    opened = len(found.changes) - len(barred)
    wanted = sum(1 for c in barred if c.wanted)
    if not found.changes:
        whom = " for the audited crawlers" if found.named else ""
        term.line(
            f"{subject}Nothing changes{whom}: all {plural(found.known, 'known URL')} are decided as before.", "bold"
        )
    else:
        said = f"{plural(wanted, 'wanted page')} would be blocked" if wanted else "no wanted page would be blocked"
        term.line(
            f"{subject}{said}. Of {plural(found.known, 'known URL')}, {len(barred):,} would be blocked and {opened:,} unblocked.",
            "bold red" if wanted else "bold",
        )
    for one in found.named:
        term.line(
            f"{one.crawler} (named in a group): may fetch {one.after:.0%} of the host's URLs, {one.before:.0%} before; "
            f"{one.blocked:,} would be blocked and {one.unblocked:,} unblocked.",
            "yellow", hang=2,
        )  # fmt: skip
    if found.lines:
        term.console.print()
        rows = [
            [str(r["change"]), str(r["line"]), str(r["text"]), str(r["group"]), f"{r['turns']:,}"] for r in found.lines
        ]
        table(term, ["change", "line", "rule", "group", "URLs"], rows, {"added": "magenta", "removed": "cyan"})
    for note in found.notes[:5]:
        term.line(note, "yellow", hang=2)
    groups: dict[tuple[bool, str, str, str, tuple[str, ...], int | None], list[str]] = {}
    for c in found.changes:
        groups.setdefault((c.wanted, c.section, c.before, c.after, c.crawlers, c.line), []).append(short(c.url, origin))
    if groups:
        term.console.print()
        rows = [
            [
                "wanted" if w else "",
                section,
                f"{before} -> {after}",
                " ".join(names),
                f"{len(urls):,}",
                ", ".join(urls[:3]),
            ]
            for (w, section, before, after, names, _), urls in groups.items()
        ]
        table(term, ["", "section", "change", "for", "count", "URLs"], rows, {"wanted": "bold red"})


robots.command("matrix", cls=Command)(matrix)
