"""The verdict for a terminal: what is wrong in one sentence, what to do first, then every cause."""

from __future__ import annotations

import re
import textwrap
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from indrel.base.plain import safe, width
from indrel.core.address import split
from indrel.core.model import Cause, Evidence, Finding, Severity, State, Verdict, listing, plural

if TYPE_CHECKING:
    from indrel.decide.flow import LinkFlow
    from indrel.decide.matrix import MatrixRow
    from indrel.decide.sitemaps import SitemapStates

STYLES = {Severity.STOP: "bold red", Severity.FIX: "bold yellow", Severity.ASK: "bold cyan", Severity.NOTE: "bold"}
STATE_STYLES = {
    State.OPEN: "green", State.HIDDEN: "cyan", State.FOLDED: "bright_blue", State.BARRED: "magenta", State.UNREAD: "dim",
    State.LOCKED: "yellow", State.GONE: "red", State.BROKEN: "red",
}  # fmt: skip
HEADINGS = {
    Severity.STOP: "Deal with these first",
    Severity.FIX: "Fix these",
    Severity.ASK: "Is this meant?",
    Severity.NOTE: "Good to know",
}
_TO_DO = {
    Severity.STOP: "to deal with first", Severity.FIX: "to fix", Severity.ASK: "to ask about", Severity.NOTE: "to know",
}  # fmt: skip
NARROW = 60
FIRST, AT_LEAST, ROOM = 10, 5, 26
"""Causes on the first screen: at most, at least, and the lines after which no further one begins."""


def host_of(verdict: Verdict) -> str:
    location = str(verdict.source["location"])
    return split(location).host if "://" in location else location


def to_do(severities: Iterable[Severity]) -> str:
    """How many there are of each severity, by what the reader does: `4 to fix and 2 to ask about`."""
    counts = Counter(severities)
    return listing([f"{counts[s]:,} {told}" for s, told in _TO_DO.items() if counts[s]])


def sentence(verdict: Verdict) -> str:
    """The verdict in one sentence; with a baseline, what became worse since and what is new."""
    told = verdict.headline
    if verdict.baseline is None:
        return told.sentence
    shown = verdict.fresh()
    grave = sum(1 for f in shown.findings if f.severity in (Severity.STOP, Severity.FIX) and not f.accepted)
    lost = len({one.url for one in verdict.lost})
    parts = []
    if lost:
        parts.append(
            f"{plural(lost, 'wanted address', 'wanted addresses')} open before {'is' if lost == 1 else 'are'} lost now"
        )
    new = plural(len(shown.findings), "new finding") + (f", {grave:,} to fix," if grave else "")
    parts.append(new if shown.findings else "nothing new")
    before = len(verdict.findings) - len(shown.findings)
    rest = f"; {plural(before, 'finding was', 'findings were')} there before" if before else ""
    return f"{told.subject}: {listing(parts)} since {verdict.baseline}{rest}; in all, {told.said}."


class Terminal:
    """Writes to one console. Everything from the site passes through `safe`."""

    def __init__(self, console: Console) -> None:
        self.console = console
        self.width = max(NARROW, min(console.width, 140))
        self.cuts = console.is_terminal
        """Whether there is a width to keep to: what goes into a pipe or file is never cut or broken."""

        self.printed = 0
        """Lines so far."""

    def line(self, text: str = "", style: str = "", indent: int = 0, hang: int = 0) -> None:
        """One paragraph, wrapped, with further lines hanging."""
        lines = textwrap.wrap(
            safe(text), self.width - indent, break_long_words=self.cuts, break_on_hyphens=False,
            subsequent_indent=" " * hang,
        ) or [""]  # fmt: skip
        self.printed += len(lines)
        for one in lines:
            self.console.print(Text(" " * indent + one, style=style), soft_wrap=True)

    def pieces(self, *pieces: tuple[str, str], hang: int | None = None) -> None:
        """One line of styled pieces; what a terminal has no room for goes on below, indented."""
        text = Text()
        for content, style in pieces:
            text.append(safe(content), style)
        if not self.cuts or text.cell_len <= self.width:
            self.printed += 1
            self.console.print(text, soft_wrap=True)
            return
        if hang is None:
            hang = min(len(text.plain) - len(text.plain.lstrip(" ")) + 6, 20)
        for number, line in enumerate(text.wrap(self.console, self.width - hang)):
            self.printed += 1
            self.console.print(Text(" " * hang if number else "").append_text(line), soft_wrap=True)

    # ---------------------------------------------------------------- the whole verdict

    def verdict(
        self,
        verdict: Verdict,
        origin: str,
        everything: bool = False,
        matrix: Sequence[MatrixRow] = (),
        flow: LinkFlow | None = None,
        sitemaps: Sequence[SitemapStates] = (),
    ) -> None:
        """One screen: sentence, states, what to do first, how to see the rest; with `everything`, all there is.

        With a baseline the causes are those of what is new, unless `everything` is asked for.
        """
        self.line(sentence(verdict), "bold")
        self._lost(verdict, origin)
        if not everything:
            verdict = verdict.fresh()
        for note in verdict.notes[: None if everything else 3]:
            self.line(f"Note: {note}.", "yellow", hang=6)
        for crash in verdict.crashed:
            self.line(f"The check {crash.check} crashed ({crash.because}): its findings are missing.", "bold red")
        self.console.print()
        self.states(verdict)
        if not everything:
            self._first(verdict, origin)
            return
        self.matrix(matrix)
        self.sitemaps(sitemaps)
        self.flow(flow)
        counted = [c for c in verdict.causes if not c.accepted]
        for severity in Severity:
            self._causes([c for c in counted if c.severity is severity], severity, origin)
        self._accepted([c for c in verdict.causes if c.accepted])
        self._left_out(verdict)

    def _lost(self, verdict: Verdict, origin: str) -> None:
        """What was open in the baseline and is lost now, by what does it."""
        groups = verdict.lost_together()
        for urls, after, evidence, crawlers in groups[:FIRST]:
            who = "" if len(crawlers) == len(verdict.crawlers) else f" for {listing(crawlers)}"
            what = f"{self._some(urls, origin, len(urls))} {'is' if len(urls) == 1 else 'are'} {after}{who}"
            self.line(f"lost  {what}", "bold red", indent=2, hang=6)
            if evidence:
                self.evidence(evidence, origin)
        if len(groups) > FIRST:
            self.line(f"and {len(groups) - FIRST:,} more (--json shows all)", "dim", indent=2)

    def _first(self, verdict: Verdict, origin: str) -> None:
        """What to do first, a few lines each, and what more there is."""
        counted = [c for c in verdict.causes if not c.accepted]
        grave = [c for c in counted if c.severity in (Severity.STOP, Severity.FIX)]
        shown = (grave or [c for c in counted if c.severity is Severity.ASK])[: 1 if verdict.headline.whole else FIRST]
        if shown:
            self.console.print()
            self.line("What to do first" if grave else "What to ask yourself", "bold")
        top = self.printed
        for number, cause in enumerate(shown):
            room = number < AT_LEAST or self.printed - top < ROOM
            if not room and cause.severity is not Severity.STOP:
                shown = shown[:number]
                break
            self._in_brief(cause, origin)
        rest = [c for c in counted if c not in shown]
        self.console.print()
        if rest:
            told = to_do(c.severity for c in rest)
            self.line(f"And {plural(len(rest), 'more cause')}: {told}. All of them: --all, or -o report.html", "dim")
        if verdict.skipped:
            self.line(f"{plural(len(verdict.skipped), 'check')} could not be made (--all says which and why).", "dim")

    def _in_brief(self, cause: Cause, origin: str) -> None:
        first = cause.findings[0]
        said = first.message if cause.count == 1 else cause.summary
        count = f"{cause.count:,} × " if cause.count > 1 else ""
        where = f"  {short(first.url, origin)}" if cause.count == 1 else f"  in {_sections(cause)}"
        if cause.count == 1 and first.evidence and first.evidence[0].where == first.url:
            where = ""  # the place is named just below
        self.pieces(
            (f"  {cause.short:<5}  ", "dim"),
            (f"{count}{cause.check}", STYLES[cause.severity]),
            (f"{where}: {said}", ""),
            hang=7,
        )
        # two texts say something only side by side
        shown = 2 if first.evidence and first.evidence[0].kind == "text" else 1
        for evidence in first.evidence[:shown]:
            self.evidence(evidence, origin)
        self.line(f"mend  {cause.mend}", "green", indent=7, hang=6)

    def states(self, verdict: Verdict) -> None:
        """How many addresses are in each state, a line for all crawlers that see the same."""
        groups = verdict.states_together()
        label = max((width(", ".join(names)) for names, _ in groups), default=0)
        for names, seen in groups:
            pieces = [(f"{', '.join(names):<{label}}", "bold")]
            for state, count in sorted(seen, key=lambda pair: list(State).index(State(pair[0])), reverse=True):
                pieces.append((f"   {state} {count:,}", STATE_STYLES[State(state)]))
            self.pieces(*pieces)

    def matrix(self, rows: Sequence[MatrixRow]) -> None:
        """The crawlers that robots.txt treats otherwise than all others."""
        groups: dict[tuple[str, str | None, float | None], list[str]] = {}
        for row in rows:
            if row.differs:
                groups.setdefault((row.purpose, row.group, row.barred), []).extend(row.crawlers)
        if not groups:
            return
        self.console.print()
        self.pieces(("Crawlers with rules of their own", "bold"), ("  (indrel robots matrix shows all)", "dim"))
        for (purpose, group, barred), names in groups.items():
            share = "nothing" if not barred else f"{barred:.0%}"
            self.pieces((f"  {purpose:<13}", "dim"), (f"{', '.join(names)}: ", ""), (f"{share} barred", "magenta" if barred else "green"),
                        (f" (group {group})" if group else " (no group holds)", "dim"))  # fmt: skip

    def sitemaps(self, sitemaps: Sequence[SitemapStates]) -> None:
        """What the sitemaps put forward, by state; only where some of it cannot be listed."""
        bad = [s for s in sitemaps if any(state != State.OPEN for state in s.states)]
        if not bad:
            return
        self.console.print()
        self.pieces(("What the sitemaps list", "bold"))
        for one in bad[:5]:
            pieces = [(f"  {split(one.url).path}: {plural(one.entries, 'entry', 'entries')}", "")]
            for state, count in sorted(one.states.items(), key=lambda pair: -pair[1]):
                pieces.append((f"   {state} {count:,}", STATE_STYLES[State(state)] if state in list(State) else "dim"))
            self.pieces(*pieces)
        if len(bad) > 5:
            self.line(f"and {len(bad) - 5:,} more", "dim", indent=2)

    def flow(self, flow: LinkFlow | None) -> None:
        """What nofollow, noindex and errors cost: the share of link weight that ends where nothing is listed."""
        if flow is None or flow.lost < 0.005:
            return
        fates = sorted(flow.fates.items(), key=lambda pair: -pair[1])
        parts = listing([f"{name} {share:.1%}" for name, share in fates if share >= 0.0005])
        top = [f"{name} ({share:.1%})" for name, share in list(flow.sections.items())[:3] if share >= 0.005]
        most = f"; most in {listing(top)}" if top else ""
        self.console.print()
        self.line(
            f"Link weight: {flow.lost:.1%} of what the site's own links carry ends where nothing can be listed: {parts}{most}.",
            hang=13,
        )

    def _accepted(self, causes: list[Cause]) -> None:
        """Findings that the intent file accepts, with the reason."""
        if not causes:
            return
        self.console.print()
        self.pieces(("Accepted", "bold"), (f"  {plural(sum(c.count for c in causes), 'finding')}", "dim"))
        for cause in causes:
            accepted = cause.accepted
            until = f" (until {accepted.until})" if accepted and accepted.until else ""
            because = accepted.because if accepted else ""
            self.pieces((f"  {cause.short:<5}  ", "dim"), (f"{cause.check}  {cause.section}  ", ""),
                        (f"{cause.count:,} ×  " if cause.count > 1 else "", ""), (f"{because}{until}", "dim"))  # fmt: skip

    def _causes(self, causes: list[Cause], severity: Severity, origin: str) -> None:
        if not causes:
            return
        findings = sum(c.count for c in causes)
        self.console.print()
        self.pieces((HEADINGS[severity], STYLES[severity]), (f"  {_counted(len(causes), findings)}", "dim"))
        for group in alike(causes):
            self.cause(group[0], origin, group[1:])

    def cause(self, cause: Cause, origin: str, others: Sequence[Cause] = ()) -> None:
        """One cause: its name, what it is, the line that does it, the mend, some addresses; others like it in brief."""
        count = f"  {cause.count:,} ×" if cause.count > 1 else ""
        pieces = [
            (f"  {cause.short:<5}  ", "dim"),
            (cause.check, STYLES[cause.severity]),
            (f"  {_sections(cause)}", ""),
            (count, "bold"),
        ]
        self.pieces(*pieces)
        example = cause.findings[0]
        self.line(example.message if cause.count == 1 else cause.summary, indent=7)
        if cause.count == 1 and example.url != example.evidence[0].where:
            self.pieces(("       at    ", "dim"), (example.url, ""))
        for evidence in example.evidence[:3]:
            self.evidence(evidence, origin)
        if cause.count > 1:
            self._examples([f.url for f in cause.findings], origin)
        if cause.share is not None and cause.share >= 0.5:
            but = f", but not {listing([short(u, origin) for u in cause.others])}" if cause.others else ""
            self.line(f"that is {cause.share:.0%} of the pages read in {cause.section}{but}", "dim", indent=13, hang=2)
        if others:
            number = sum(c.count for c in others)
            ids = _ids(others)
            urls = [f.url for c in others for f in c.findings]
            self.pieces(("       also  ", "dim"), (f"{ids}: ", "dim"), (self._some(urls, origin, number), ""))
        self.line(f"mend  {cause.mend}", "green", indent=7, hang=6)

    def by_check(
        self, title: str, findings: Iterable[Finding], origin: str, style: str | None = None, most: int = 1_000
    ) -> None:
        """Findings under a title, a line each check: how grave, how many, the first place, what is said of a lone one."""
        groups: dict[tuple[Severity, str], list[Finding]] = {}
        for finding in findings:
            groups.setdefault((finding.severity, finding.check), []).append(finding)
        if groups:
            self.console.print()
            self.line(title, "bold")
        ordered = sorted(groups.items(), key=lambda pair: (-pair[0][0].value, pair[0][1]))
        most = most if self.cuts else len(ordered)
        for (severity, check), members in ordered[:most]:
            first = min(members, key=lambda f: f.url)
            rest = f" and {len(members) - 1:,} more" if len(members) > 1 else f": {first.message}"
            self.pieces(
                (f"  {severity.word:<5} ", style or STYLES[severity]),
                (f"{check:<28}{len(members):>5,} ×  ", ""),
                (short(first.url, origin), ""),
                (rest, "dim"),
            )
        if len(ordered) > most:
            self.line(f"and {plural(len(ordered) - most, 'more check')} (--json shows all)", "dim", indent=2)

    def evidence(self, evidence: Evidence, origin: str, indent: int = 7, whole: bool = False, word: str = "by") -> None:
        """One line that shows where and what; `whole` wraps instead of cutting."""
        where = short(evidence.where, origin)
        if evidence.line:
            where += f":{evidence.line}"
        if whole:
            self.line(f"{word:<6}{where}  {evidence.text}", indent=indent, hang=8)
            return
        self.pieces((" " * indent + f"{word:<6}", "dim"), (where, ""), ("  ", ""), (evidence.text, "bold"))

    def _examples(self, urls: list[str], origin: str) -> None:
        self.pieces(("       at    ", "dim"), (self._some(urls, origin, len(urls)), ""))

    @staticmethod
    def _some(urls: list[str], origin: str, count: int) -> str:
        shown = [short(u, origin) for u in urls[:3]]
        return ", ".join(shown) + (f" and {count - 3:,} more" if count > 3 else "")

    def _left_out(self, verdict: Verdict) -> None:
        if not verdict.skipped:
            return
        reasons: dict[str, list[str]] = {}
        for one in verdict.skipped:
            reasons.setdefault(one.because, []).append(one.check)
        self.console.print()
        for because, names in reasons.items():
            self.line(f"Left out: {', '.join(names)} ({because}).", "dim", hang=10)


def alike(causes: list[Cause]) -> list[list[Cause]]:
    """Causes of one check in one section together: they differ only in the exact text."""
    groups: dict[tuple[str, str], list[Cause]] = {}
    for cause in causes:
        groups.setdefault((cause.check, cause.section), []).append(cause)
    return list(groups.values())


def _ids(causes: Sequence[Cause]) -> str:
    """The ids of causes in few words."""
    shown = [cause.short for cause in causes[:4]]
    return listing([*shown, *([f"{len(causes) - 4:,} more causes"] if len(causes) > 4 else [])])


def _sections(cause: Cause) -> str:
    """The sections that a cause reaches: the one with most of it, and how many more."""
    others = len(cause.sections) - 1
    return cause.section + (f" and {plural(others, 'more section')}" if others > 0 else "")


def _counted(causes: int, findings: int) -> str:
    return (
        plural(causes, "cause") if causes == findings else f"{plural(causes, 'cause')}, {plural(findings, 'finding')}"
    )


_LEAST = 12
"""Columns of a table are not cut below this."""


def short(url: str, origin: str) -> str:
    """An address without the site's own origin."""
    return url[len(origin) :] if url.startswith(origin + "/") else url


def states_shown(states: dict[str, str]) -> str:
    """The states of one address in few words: the commonest, then the crawlers that differ."""
    groups: dict[str, list[str]] = {}
    for crawler, state in states.items():
        groups.setdefault(state, []).append(crawler)
    first, *others = sorted(groups.items(), key=lambda pair: -len(pair[1]))
    return "; ".join([first[0], *(f"{state}: {' '.join(names)}" for state, names in others)])


def table(
    terminal: Terminal, heads: Iterable[str], rows: list[list[str]], styles: dict[str, str] | None = None
) -> None:
    """Aligned columns; in a terminal the widest gives way and goes on in further lines. `styles` colour cells by their text."""
    titles = list(heads)
    cells = [[safe(c) for c in row] for row in rows]
    widths = [max([width(t), *(width(row[i]) for row in cells)]) for i, t in enumerate(titles)]
    if terminal.cuts:
        over = sum(widths) + 2 * (len(widths) - 1) - terminal.width
        while over > 0 and max(widths) > _LEAST:
            widths[widths.index(max(widths))] -= 1
            over -= 1
    for row, style in [(titles, "bold"), *((r, "") for r in cells)]:
        parts = [_wrapped(cell, columns) for cell, columns in zip(row, widths, strict=True)]
        for line in range(max(map(len, parts))):
            text = Text()
            for i, (part, columns) in enumerate(zip(parts, widths, strict=True)):
                shown = part[line] if line < len(part) else ""
                pad = " " * (columns - width(shown) + 2) if i < len(row) - 1 else ""
                text.append(shown, style or (styles or {}).get(row[i], ""))
                text.append(pad)
            text.rstrip()
            terminal.console.print(text, soft_wrap=True)


def _wrapped(cell: str, columns: int) -> list[str]:
    """A cell in as many lines as it needs, broken behind spaces and slashes where that can be."""
    if width(cell) <= columns:
        return [cell]
    words = [
        p
        for w in re.findall(r"\S+\s*", cell)
        for p in ([w] if width(w.rstrip()) <= columns else re.findall(r"[^/]*/?", w))
    ]
    lines, line = [], ""
    for piece in words:
        while width(line) + width(piece.rstrip()) > columns:
            if line.strip():
                lines.append(line.rstrip())
                line = ""
            if width(piece) > columns:
                lines.append(piece[:columns])
                piece = piece[columns:]
            elif not line:
                break
        line += piece
    return [*lines, line] if line.strip() else lines
