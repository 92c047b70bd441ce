"""Values that every stage shares."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from enum import Enum, StrEnum
from pathlib import PurePath
from typing import NamedTuple, Protocol

from indrel.base.notebook import MOST_ROWS, page
from indrel.core.address import normalise


class State(StrEnum):
    """What a crawler can do with an address; the first that applies holds (order of definition)."""

    BARRED = "barred"
    UNREAD = "unread"
    LOCKED = "locked"
    GONE = "gone"
    BROKEN = "broken"
    FOLDED = "folded"
    HIDDEN = "hidden"
    OPEN = "open"


class Want(StrEnum):
    """What the owner wants of an address."""

    SHOW = "show"
    HIDE = "hide"
    LOCK = "lock"
    DROP = "drop"
    ANY = "any"


class CheckClass(StrEnum):
    BLOCKED = "blocked"
    EXPOSED = "exposed"
    CONFLICT = "conflict"
    FLAW = "flaw"


class Traits(NamedTuple):
    """What holds for all audits of one kind of source."""

    is_live: bool
    """Its responses have statuses and headers of a server."""

    is_whole: bool
    """What it does not have is not there."""

    can_ask_again: bool
    """Single URLs of it can be requested again."""

    lacks: str
    """The words for a URL that it does not have."""


SOURCES = {
    "site": Traits(True, True, True, "not found by the crawl"),
    "urls": Traits(True, False, True, "not in the list of URLs"),
    "folder": Traits(False, True, False, "no file in the folder"),
    "warc": Traits(True, False, False, "not in the archive"),
}
"""By the kind of source, as a snapshot names it."""

LONE = Traits(False, True, False, "not in the file")
"""The source of a single file that is checked on its own."""


class Severity(Enum):
    """Named for what the reader does. Higher values weigh more."""

    STOP = 4
    FIX = 3
    ASK = 2
    NOTE = 1

    def __init__(self, weight: int) -> None:
        self.weight = weight  # the value, without the detour that each look at it takes

    @property
    def word(self) -> str:
        return self.name.lower()

    def milder(self) -> Severity:
        """One step down; `stop` stays `stop` and `note` stays `note`."""
        if self in (Severity.STOP, Severity.NOTE):
            return self
        return Severity(self.value - 1)


class Evidence(NamedTuple):
    """One place that shows a finding: `where` is a file, an address or both; lines start at 1."""

    kind: str
    where: str
    line: int | None
    text: str

    def as_json(self) -> dict[str, object]:
        return {"kind": self.kind, "where": self.where, "line": self.line, "text": self.text}


@dataclass(frozen=True, slots=True)
class Accepted:
    """Why the owner accepts a finding, and the last day on which it is accepted (ISO 8601), if there is one."""

    because: str
    until: str | None


@dataclass(frozen=True, slots=True)
class Finding:
    """One place where a check applies. The first evidence is the directive or rule that causes it. `follows` is the id of the
    cause whose edit fixes it too; if it is only a `consequence`, it is kept but neither counted nor printed. `advice` says what to
    do if that is not what the catalogue says; read back from a snapshot it is empty, because its cause has it."""

    check: str
    cls: CheckClass
    severity: Severity
    url: str
    crawlers: tuple[str, ...]
    message: str
    evidence: tuple[Evidence, ...]
    also: tuple[str, ...] = ()
    section: str = ""
    cause: str = ""
    accepted: Accepted | None = None
    follows: str = ""
    consequence: bool = False
    advice: str = field(default="", compare=False, repr=False)

    @property
    def address(self) -> str:
        """What it speaks of, as addresses are compared."""
        return subject_address(self.check, self.url)

    def as_json(self) -> dict[str, object]:
        doc: dict[str, object] = {
            "check": self.check,
            "class": self.cls.value,
            "severity": self.severity.word,
            "url": self.url,
            "crawlers": list(self.crawlers),
            "cause": self.cause,
            "follows": self.follows or None,
            "message": self.message,
            "evidence": [e.as_json() for e in self.evidence],
        }
        if self.also:
            doc["also"] = list(self.also)
        if self.accepted:
            doc["accepted"] = {"because": self.accepted.because, "until": self.accepted.until}
        return doc


AS_WRITTEN = ("listed-", "sitemap-")
"""Beginnings of the ids of checks whose subject is a sitemap's entry, reported in the form in which it is written."""


def subject_address(check: str, url: str) -> str:
    """The address of a finding's subject: of a sitemap's entry, which is reported as is written, the one that it means."""
    return normalise(url) or url if check.startswith(AS_WRITTEN) else url


@dataclass(frozen=True, slots=True)
class Cause:
    """Findings that one edit would fix.

    `id` is `c` and ten hexadecimal digits, the same in every audit that has the cause; `short` is as much of it as tells it
    from the other causes of this audit; `rank` is its place in the order of harm, from 1. `section` is the one that most of
    the findings are in, `sections` says how many are in each. `share` is of the pages read in the section, for causes of
    pages; `others` are the few pages there that are not concerned. `accepted` says why all its findings are accepted.
    `relation` is how subjects and targets relate. `follows` is the id of the cause whose edit fixes this one too;
    `consequences` counts the findings that this one explains. `now` and `instead` are the text to edit, if one follows
    from the other; `proof` says what the edit does, as tried on the facts.
    """

    id: str
    check: str
    cls: CheckClass
    severity: Severity
    section: str
    count: int
    summary: str
    mend: str
    findings: Sequence[Finding] = field(repr=False, default=())
    accepted: Accepted | None = None
    share: float | None = None
    others: tuple[str, ...] = ()
    sections: dict[str, int] = field(default_factory=dict)
    rank: int = 0
    short: str = ""
    relation: str = ""
    follows: str = ""
    consequence: bool = False
    consequences: int = 0
    now: str = ""
    instead: str = ""
    proof: str = ""

    def __repr__(self) -> str:
        return f"<Cause {self.short or self.id} {self.severity.word} {self.check}, {plural(self.count, 'finding')}>"

    def _repr_html_(self) -> str:
        rows = [
            (evidence.where, evidence.line, evidence.text)
            for f in self.findings[:MOST_ROWS]
            for evidence in f.evidence[:1]
        ]
        return page(f"{self.summary} {self.fix}", ("where", "line", "text"), rows)

    @property
    def fix(self) -> str:
        """What to do about it, and what that does, if it was tried."""
        return f"{self.mend} Tried on this audit: {self.proof}." if self.proof else self.mend

    def as_json(self) -> dict[str, object]:
        doc: dict[str, object] = {
            "id": self.id,
            "rank": self.rank,
            "relation": self.relation or None,
            "follows": self.follows or None,
            "check": self.check,
            "class": self.cls.value,
            "severity": self.severity.word,
            "section": self.section,
            "sections": self.sections,
            "count": self.count,
            "consequences": self.consequences,
            "summary": self.summary,
            "mend": self.mend,
            "proof": self.proof or None,
        }
        if self.now:
            doc["now"], doc["instead"] = self.now, self.instead
        if self.share is not None:
            doc["share"] = round(self.share, 4)
            doc["others"] = list(self.others)
        if self.accepted:
            doc["accepted"] = {"because": self.accepted.because, "until": self.accepted.until}
        return doc


@dataclass(frozen=True, slots=True)
class Skipped:
    """A check that was left out, and why."""

    check: str
    because: str


@dataclass(frozen=True, slots=True)
class Headline:
    """The verdict in the reader's terms, counted in addresses.

    `wanted` pages, how many of them are `lost` (known not to be open for some audited crawler), how many unwanted ones
    are `exposed` (open for some); `conflicts` and `faults` are addresses that findings to stop for or fix speak of.
    `subject` names the site and the audit's moment, `said` is the rest of the sentence; `whole` tells that it says why the
    whole site is shut, locked or down, and nothing beside it.
    """

    subject: str
    said: str
    wanted: int
    lost: int
    exposed: int
    conflicts: int
    faults: int
    whole: bool = False

    @property
    def sentence(self) -> str:
        return f"{self.subject}: {self.said}."

    def as_json(self) -> dict[str, object]:
        return {
            "sentence": self.sentence, "wanted": self.wanted, "lost": self.lost, "exposed": self.exposed,
            "conflicts": self.conflicts, "faults": self.faults,
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Lost:
    """A wanted address that was open for a crawler in the baseline and is known not to be now."""

    url: str
    crawler: str
    after: str
    evidence: Evidence | None = None
    place: tuple[str, ...] = ()
    """The place to edit, as causes are reported apart by it."""

    fix: str = ""
    """What brings the page back; the same for all of a place."""

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url, "crawler": self.crawler, "before": State.OPEN.value, "after": self.after,
            "evidence": self.evidence.as_json() if self.evidence else None, "fix": self.fix,
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Verdict:
    """The whole answer of one audit: what reports are written from."""

    source: dict[str, object]
    complete: bool
    incomplete_because: str | None
    crawlers: tuple[str, ...]
    addresses: int
    states: dict[str, dict[str, int]]
    folded_by: dict[str, dict[str, int]]
    """By crawler, how many URLs are folded by a redirect and how many by a canonical."""

    causes: tuple[Cause, ...]
    findings: Sequence[Finding]
    """Cause by cause. Many are read as they are asked for: hold the site open for as long."""

    tally: dict[Severity, int]
    """How many of the findings there are of each severity, without those accepted."""

    skipped: tuple[Skipped, ...]
    crashed: tuple[Skipped, ...]
    headline: Headline = Headline("", "", 0, 0, 0, 0, 0)
    notes: tuple[str, ...] = ()
    consequences: tuple[Cause, ...] = ()
    """What follows from causes that are reported: kept for those who ask, and neither counted nor printed."""

    baseline: str | None = None
    new: frozenset[Finding] = frozenset()
    """With a baseline: the findings that it has not."""

    baseline_started: str | None = None

    lost: tuple[Lost, ...] = ()
    """With a baseline: wanted addresses that were open in it and are lost now, whatever check speaks of them."""

    def __repr__(self) -> str:
        return f"<Verdict {self.headline.sentence}>"

    def _repr_html_(self) -> str:
        """The first line and the causes."""
        rows = [(c.severity.word, c.check, c.count, c.summary) for c in self.causes if not c.accepted]
        return page(self.headline.sentence, ("severity", "check", "findings", "what"), rows)

    def states_together(self) -> list[tuple[list[str], dict[str, str]]]:
        """How many URLs are in each state, once for all crawlers with the same counts; folded ones as redirect / canonical."""
        groups: dict[tuple[tuple[str, str], ...], list[str]] = {}
        for crawler, counts in self.states.items():
            shown = {state: f"{count:,}" for state, count in counts.items()}
            if State.FOLDED in shown and crawler in self.folded_by:
                how = self.folded_by[crawler]
                shown[State.FOLDED] = f"{how['redirect']:,} / {how['canonical']:,}"
            groups.setdefault(tuple(shown.items()), []).append(crawler)
        return [(names, dict(shown)) for shown, names in groups.items()]

    def joined(self, cause: Cause) -> list[Cause]:
        """The less serious causes that the same edit fixes: they are printed with it."""
        if not cause.findings or not cause.consequences:
            return []
        place = cause.findings[0].evidence[:1]
        followers = (c for c in self.consequences if c.follows == cause.id and c.findings)
        return [c for c in followers if place[0].kind == "robots" and _same_line(c.findings[0].evidence[:1], place)]

    def lost_together(self) -> list[tuple[list[str], str, Evidence | None, list[str], str]]:
        """Lost addresses that one edit would bring back: they, the state now, the first's line, the crawlers it holds for, and
        that edit."""
        crawlers: dict[Lost, list[str]] = {}
        for one in self.lost:
            crawlers.setdefault(replace(one, crawler=""), []).append(one.crawler)
        groups: dict[tuple[str, tuple[str, ...], tuple[str, ...]], list[Lost]] = {}
        for one, names in crawlers.items():
            groups.setdefault((one.after, one.place, tuple(names)), []).append(one)
        return [
            (
                [one.url for one in ones],
                after,
                ones[0].evidence,
                list(names),
                self._tried(ones[0].evidence) or ones[0].fix,
            )
            for (after, _, names), ones in groups.items()
        ]

    def _tried(self, line: Evidence | None) -> str:
        """The edit of a line that was tried on the facts, if a cause has one: what is wrong with a response is another cause's edit, such
        as of the sitemap that lists it, and brings nothing back."""
        if line and line.kind not in ("robots", "tag", "header", "canonical"):
            return ""
        first = (c for c in self.causes if c.proof and c.findings)
        return next((c.fix for c in first if line and _same_line(c.findings[0].evidence[:1], (line,))), "")

    def count(self, severity: Severity) -> int:
        return self.tally.get(severity, 0)

    def file_of(self, where: str) -> str:
        """Where evidence stands, for a code host: a file of a folder that was named by its path from the working folder has that
        path from there. The file's path in the folder for any other folder, and whatever it is if it is no file."""
        folder = PurePath(str(self.source["location"])) if self.source.get("kind") == "folder" else None
        is_file = "://" not in where and not where.startswith("/")
        return (folder / where).as_posix() if folder and is_file and not folder.is_absolute() else where

    def is_new(self, finding: Finding) -> bool:
        """Whether a finding counts as new; without a baseline all do."""
        return self.baseline is None or finding in self.new

    def fresh(self) -> Verdict:
        """Only what is new since the baseline; all of it without one."""
        if self.baseline is None:
            return self
        causes = []
        fresh: list[Finding] = []
        for cause in self.causes if self.new else ():
            found = tuple(f for f in cause.findings if self.is_new(f))
            if found:
                severity = max((f.severity for f in found), key=lambda s: s.value)
                causes.append(
                    replace(cause, findings=found, count=len(found), severity=severity, share=None, others=())
                )
                fresh += found
        return replace(self, causes=tuple(causes), findings=tuple(fresh), tally=tally_of(fresh))

    def at_or_above(self, severity: Severity) -> bool:
        """Whether anything new is as grave, and not accepted, or a wanted address was lost since the baseline."""
        tally = self.tally if self.baseline is None else tally_of(self.new)
        return bool(self.lost) or any(count for one, count in tally.items() if one.value >= severity.value)


def _same_line(one: Sequence[Evidence], other: Sequence[Evidence]) -> bool:
    return bool(one) and (one[0].where, one[0].text) == (other[0].where, other[0].text)


class Weighed(Protocol):
    """What has a severity, and may be accepted."""

    @property
    def severity(self) -> Severity: ...
    @property
    def accepted(self) -> Accepted | None: ...


def tally_of(findings: Iterable[Weighed]) -> dict[Severity, int]:
    """How many there are of each severity, without those accepted."""
    return dict(Counter(f.severity for f in findings if not f.accepted))


def moment(when: object) -> str:
    """A time as snapshots write it (ISO 8601, UTC) for people: `2026-11-23 08:00 UTC`; empty where there is none."""
    text = str(when or "")
    return f"{text[:10]} {text[11:16]} UTC" if len(text) > 15 else text


def plural(count: int, one: str, many: str | None = None) -> str:
    """`1 address`, `3 addresses`."""
    if count == 1:
        return f"1 {one}"
    if many is None:
        many = one + ("es" if one.endswith("ss") else "s")
    return f"{count:,} {many}"


def verb(count: int, one: str = "is", many: str = "are") -> str:
    """The form of a verb for a number of things."""
    return one if count == 1 else many


def capital(text: str) -> str:
    """A clause as the beginning of a sentence."""
    return text[:1].upper() + text[1:]


def listing(names: Sequence[str], last: str = "and") -> str:
    """`a`, `a and b`, `a, b and c`."""
    if len(names) < 2:
        return "".join(names)
    return ", ".join(names[:-1]) + f" {last} " + names[-1]
