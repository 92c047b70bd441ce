"""The verdict for a terminal: the first line, the states, what to fix first; or every cause."""

from __future__ import annotations

import textwrap
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from indrel.base.plain import safe, width
from indrel.base.readable import readable
from indrel.core.address import split
from indrel.core.model import Cause, Evidence, Finding, Severity, State, Verdict, listing, plural, verb

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
    Severity.ASK: "Is this intended?",
    Severity.NOTE: "Good to know",
}
A_CAUSE = "Each cause is a group of findings that one edit would fix."
FATES = {"unfollowed": "nofollow links"}
"""What becomes of link weight, where the name in JSON is not the trade's word."""

GLOSSES = {
    State.OPEN: "indexable", State.HIDDEN: "noindex", State.FOLDED: "redirect / canonical", State.BARRED: "robots.txt",
    State.GONE: "4xx", State.BROKEN: "5xx, soft 404", State.LOCKED: "401, 403", State.UNREAD: "not crawled",
}  # fmt: skip
"""The states in the trade's words, in the order in which they are shown."""

NARROW = 60
FIRST, AT_LEAST, ROOM = 10, 5, 25
"""Causes on the first screen: at most, at least, and the lines after which no further one begins."""

BY_CHECK = 4
"""Checks that are named of each severity that the first screen has no room for."""


def host_of(verdict: Verdict) -> str:
    location = str(verdict.source["location"])
    return split(location).host if "://" in location else location


def to_do(severities: Iterable[Severity]) -> str:
    """How many there are of each severity: `4 fix and 2 ask`."""
    counts = Counter(severities)
    return listing([f"{counts[s]:,} {s.word}" for s in Severity if counts[s]])


def sentence(verdict: Verdict) -> str:
    """The first line; with a baseline, what got worse since then and what is new."""
    told = verdict.headline
    if verdict.baseline is None:
        return told.sentence
    return f"{told.subject}: Since {verdict.baseline}: {since_then(verdict)} Overall: {told.said}."


def since_then(verdict: Verdict) -> str:
    """With a baseline: what was lost since then, what is new, and what was there already."""
    shown = verdict.fresh()
    grave = sum(1 for f in shown.findings if f.severity in (Severity.STOP, Severity.FIX) and not f.accepted)
    lost = len({one.url for one in verdict.lost})
    parts = [f"{plural(lost, 'wanted page')} lost"] if lost else []
    new = plural(len(shown.findings), "new finding") + (f" ({grave:,} fix or stop)" if grave else "")
    parts.append(new if shown.findings else "no new finding")
    before = len(verdict.findings) - len(shown.findings)
    unchanged = f" Unchanged: {plural(before, 'finding')}." if before else ""
    return f"{', '.join(parts)}.{unchanged}"


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

    def row(self, *cells: tuple[str, str]) -> None:
        """A row of a table: styled cells of the right width."""
        kept = list(cells)
        while len(kept) > 1 and not kept[-1][0].strip():
            kept.pop()
        last, style = kept.pop()
        self.pieces(*kept, (last.rstrip(), style), hang=4)

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
        """One screen: first line, states, what to fix first, how to see the rest; with `everything`, all there is.

        With a baseline, only causes of new findings are shown, unless `everything` is asked for.
        """
        self.line(sentence(verdict), "bold")
        self._lost(verdict, origin)
        if not everything:
            verdict = verdict.fresh()
        for note in verdict.notes[: None if everything else 3]:
            self.line(f"Note: {note}.", "yellow", hang=6)
        for crash in verdict.crashed:
            self.line(f"The check {crash.check} crashed ({crash.because}), so its findings are missing.", "bold red")
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
        """Wanted pages that were open in the baseline and are lost now, by the line that causes it."""
        groups = verdict.lost_together()
        for urls, after, evidence, crawlers, fix in groups[:FIRST]:
            who = "" if len(crawlers) == len(verdict.crawlers) else f" for {listing(crawlers)}"
            what = f"{self._some(urls, origin, len(urls))} {'is' if len(urls) == 1 else 'are'} {after}{who}"
            self.line(f"lost  {what}", "bold red", indent=2, hang=6)
            if evidence:
                self.evidence(evidence, origin)
            if fix:
                self.line(f"fix     {fix}", "green", indent=7, hang=8)
        if len(groups) > FIRST:
            self.line(f"and {len(groups) - FIRST:,} more (--json shows all)", "dim", indent=2)

    def _first(self, verdict: Verdict, origin: str) -> None:
        """What to fix first, a few lines each; what remains, by check; and the commands that lead on."""
        counted = [c for c in verdict.causes if not c.accepted]
        serious = [c for c in counted if c.severity is not Severity.NOTE]
        shown = serious[: 1 if verdict.headline.whole else FIRST]
        if shown:
            self.console.print()
            first = shown[0].severity is not Severity.ASK
            self.pieces(("Fix these first" if first else "Are these intended?", "bold"), (f"  {A_CAUSE}", "dim"))
        top = self.printed
        for number, cause in enumerate(shown):
            room = number < AT_LEAST or self.printed - top < ROOM
            if not room and cause.severity is not Severity.STOP:
                shown = shown[:number]
                break
            self._in_brief(cause, origin, verdict.joined(cause))
        self._rest([c for c in counted if c not in shown], bool(shown))
        self._onward(verdict)

    def _rest(self, rest: list[Cause], more: bool) -> None:
        """What the screen has no room for, by check."""
        if not rest:
            return
        self.console.print()
        said = plural(len(rest), "more cause" if more else "cause")
        self.line(f"{said} ({to_do(c.severity for c in rest)}), by check:", "bold")
        for severity in Severity:
            counts = Counter[str]()
            for cause in rest:
                if cause.severity is severity:
                    counts[cause.check] += cause.count
            if counts:
                top = [f"{check} {count:,}" for check, count in counts.most_common(BY_CHECK)]
                others = f" and {plural(len(counts) - BY_CHECK, 'more check')}" if len(counts) > BY_CHECK else ""
                self.pieces((f"  {severity.word:<5}", STYLES[severity]), (f"{', '.join(top)}{others}", ""))

    def _onward(self, verdict: Verdict) -> None:
        """The commands that lead on from the first screen."""
        counts = (
            ("--lost", verdict.headline.lost, "wanted page", "cannot be indexed"),
            ("--exposed", verdict.headline.exposed, "unwanted page", "can be indexed"),
        )
        ways = [
            (f"indrel list {option}", f"the {plural(count, page).removeprefix('1 ')} that {how}")
            for option, count, page, how in counts
            if count
        ]
        ways.append(("--all, or indrel report -o report.html", "every cause with its pages"))
        if verdict.causes:
            ways.append(("indrel explain URL", "one page: why it is in its state, and what would change it"))
        self.console.print()
        for command, what in ways:
            self.pieces((f"{command:<40}", ""), (what, "dim"))
        if verdict.skipped:
            were = verb(len(verdict.skipped), "was", "were")
            self.line(f"{plural(len(verdict.skipped), 'check')} {were} skipped (--all shows which, and why).", "dim")

    def _in_brief(self, cause: Cause, origin: str, joined: Sequence[Cause] = ()) -> None:
        self._title(cause)
        first = cause.findings[0]
        # two texts make sense only together
        shown = 2 if first.evidence and first.evidence[0].kind == "text" else 1
        for evidence in first.evidence[:shown]:
            self.evidence(evidence, origin)
        for one in joined:
            self.pieces(("       also    ", "dim"), (said_of(one), ""), (f"  {one.check}", "dim"))
        self._fix(cause)

    def _title(self, cause: Cause, sections: bool = True) -> None:
        """The sentence, then the check."""
        self.pieces(
            (f"  {cause.short:<5}  ", "dim"),
            (said_of(cause, sections), STYLES[cause.severity]),
            (f"  {cause.check}{explains(cause)}", "dim"),
            hang=7,
        )

    def _fix(self, cause: Cause) -> None:
        self.line(f"fix     {cause.fix}", "green", indent=7, hang=8)

    def states(self, verdict: Verdict, glosses: bool = True) -> None:
        """How many URLs are in each state: a table with a row for all crawlers with the same counts."""
        groups = verdict.states_together()
        states = [s for s in GLOSSES if any(s in seen for _, seen in groups)]
        words = {s: _two_lines(GLOSSES[s]) if glosses else ("", "") for s in states}
        label = max((width(", ".join(names)) for names, _ in groups), default=0)
        columns = {
            s: max(len(s), *map(len, words[s]), *(len(seen.get(s, "0")) for _, seen in groups)) + 2 for s in states
        }
        heads = [[(s.value, STATE_STYLES[s]) for s in states]]
        if glosses:
            heads += [
                [(words[s][line], "dim") for s in states]
                for line in range(2 if any(words[s][1] for s in states) else 1)
            ]
        for head in heads:
            self.row(
                (" " * (label + 2), ""),
                *((f"{text:<{columns[s]}}", style) for s, (text, style) in zip(states, head, strict=True)),
            )
        for names, seen in groups:
            cells = [(f"{seen.get(s, '0'):<{columns[s]}}", STATE_STYLES[s]) for s in states]
            self.row((f"{', '.join(names):<{label}}  ", "bold"), *cells)

    def matrix(self, rows: Sequence[MatrixRow]) -> None:
        """The crawlers for which robots.txt has other rules than for the rest."""
        groups: dict[tuple[str, str | None, float | None], list[str]] = {}
        for row in rows:
            if row.differs:
                groups.setdefault((row.purpose, row.group, row.barred), []).extend(row.crawlers)
        if not groups:
            return
        self.console.print()
        self.pieces(("Crawlers with rules of their own", "bold"), ("  (all: indrel robots matrix)", "dim"))
        for (purpose, group, barred), names in groups.items():
            share = "nothing" if not barred else f"{barred:.0%}"
            self.pieces((f"  {purpose:<13}", "dim"), (f"{', '.join(names)}: ", ""), (f"{share} blocked", "magenta" if barred else "green"),
                        (f" (group {group})" if group else " (no group applies)", "dim"))  # fmt: skip

    def sitemaps(self, sitemaps: Sequence[SitemapStates]) -> None:
        """What the sitemaps list, by state; only if some of it cannot be indexed."""
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
        """What nofollow, noindex and errors cost: the share of link weight that ends at pages that cannot be indexed."""
        if flow is None or flow.lost < 0.005:
            return
        fates = sorted(flow.fates.items(), key=lambda pair: -pair[1])
        parts = listing([f"{FATES.get(name, name)} {share:.1%}" for name, share in fates if share >= 0.0005])
        top = [f"{name} ({share:.1%})" for name, share in list(flow.sections.items())[:3] if share >= 0.005]
        most = f"; most in {listing(top)}" if top else ""
        self.console.print()
        self.line(
            f"Link weight: {flow.lost:.1%} of what the site's own links pass on ends at pages that cannot be indexed: {parts}{most}.",
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
        """One cause: its sentence, the line that causes it, the fix, some URLs; others like it in brief."""
        self._title(cause)
        example = cause.findings[0]
        if cause.count == 1 and example.url != example.evidence[0].where:
            self.pieces(("       on      ", "dim"), (example.url, ""))
        for evidence in example.evidence[:3]:
            self.evidence(evidence, origin)
        if cause.count > 1:
            self._examples([f.url for f in cause.findings], origin)
        if cause.share is not None and cause.share >= 0.5:
            but = f", but not {listing([short(u, origin) for u in cause.others])}" if cause.others else ""
            self.line(f"This is {cause.share:.0%} of the pages read in {cause.section}{but}.", "dim", indent=15, hang=2)
        if others:
            number = sum(c.count for c in others)
            ids = _ids(others)
            urls = [f.url for c in others for f in c.findings]
            self.pieces(("       also    ", "dim"), (f"{ids}: ", "dim"), (self._some(urls, origin, number), ""))
        self._fix(cause)

    def rules(self, rules: Iterable[Mapping[str, object]]) -> None:
        """Rules of robots.txt that only one of two files has."""
        for rule in rules:
            sign, style = ("+", "green") if rule["change"] == "new" else ("-", "red")
            self.line(f"{sign} {rule['line']:>4}  {rule['text']}  (group {rule['group']})", style, indent=2, hang=8)

    def by_check(
        self, title: str, findings: Iterable[Finding], origin: str, style: str | None = None, most: int = 1_000
    ) -> None:
        """Findings under a title, one line per check: severity, count, the first URL, and the message if there is only one."""
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

    def evidence(
        self, evidence: Evidence, origin: str, indent: int = 7, whole: bool = False, word: str = "set by"
    ) -> None:
        """One line that shows where and what; `whole` wraps instead of cutting."""
        where = short(evidence.where, origin)
        if evidence.line:
            where += f":{evidence.line}"
        if whole:
            self.line(f"{word:<8}{where}  {evidence.text}", indent=indent, hang=10)
            return
        self.pieces((" " * indent + f"{word:<8}", "dim"), (where, ""), ("  ", ""), (evidence.text, "bold"))

    def _examples(self, urls: list[str], origin: str) -> None:
        self.pieces(("       on      ", "dim"), (self._some(urls, origin, len(urls)), ""))

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
            self.line(f"Skipped: {', '.join(names)} ({because}).", "dim", hang=9)


def alike(causes: list[Cause]) -> list[list[Cause]]:
    """Causes of one check in one section together: they differ only in the exact text."""
    groups: dict[tuple[str, str], list[Cause]] = {}
    for cause in causes:
        groups.setdefault((cause.check, cause.section), []).append(cause)
    return list(groups.values())


def said_of(cause: Cause, sections: bool = True) -> str:
    """A cause as one sentence: what is wrong, of how many URLs, and where."""
    if cause.count == 1:
        return cause.summary
    where = f" in {_sections(cause)}" if sections else ""
    return f"{cause.summary.removesuffix('.')}: {cause.count:,} URLs{where}."


def explains(cause: Cause) -> str:
    """How many findings follow from a cause, as a clause after its check."""
    return f", explains {cause.consequences:,} more" if cause.consequences else ""


def _two_lines(gloss: str) -> tuple[str, str]:
    """A gloss in two short lines."""
    first, comma, rest = gloss.partition(", ")
    if comma:
        return f"{first},", rest
    first, slash, rest = gloss.partition(" / ")
    return (f"{first} /", rest) if slash else (gloss, "")


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


def short(url: str, origin: str) -> str:
    """A URL for people, without the site's own origin."""
    return readable(url[len(origin) :] if url.startswith(origin + "/") else url)


def states_shown(states: dict[str, str]) -> str:
    """The states of one URL in few words: the most common one, then the crawlers that differ."""
    groups: dict[str, list[str]] = {}
    for crawler, state in states.items():
        groups.setdefault(state, []).append(crawler)
    first, *others = sorted(groups.items(), key=lambda pair: -len(pair[1]))
    return "; ".join([first[0], *(f"{state}: {' '.join(names)}" for state, names in others)])
