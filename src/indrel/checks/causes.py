"""Findings grouped by cause: the same check, the same relation of subject and target, the same place to edit.

The place is the rule's line, the sitemap file, or, for pages, the directive as a pattern: its text without the
page's own URL, slug, numbers and dates. So a template's line that prints each page's own name is one cause,
whatever sections it reaches.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import accumulate, pairwise
from typing import Protocol, runtime_checkable
from urllib.parse import unquote

from indrel.checks.advice import Advice
from indrel.checks.catalogue import Hit, checks
from indrel.core import relation as rel
from indrel.core.model import Accepted, Cause, CheckClass, Evidence, Finding, Severity, subject_address
from indrel.decide.kinds import telling_parameter

DIRECTIVES = ("tag", "header", "canonical", "link", "script")
"""Kinds of evidence that stand in a template or configuration, whatever section prints them."""

_CLASS_ORDER = list(CheckClass)
_NUMBERS = re.compile(r"\d+")
_DATE = re.compile(
    r"\b\d{4}-\d{2}-\d{2}(?:[T ][\d:.+Z-]+)?|\b\d{1,2} [A-Z][a-z]{2,8} \d{4}(?: [\d:]+(?: [A-Z]{3,4})?)?"
)

_LEADS_TO = re.compile(r"(http-equiv\s*=\s*[\"']?refresh\b.*?\burl\s*=)[^\">]*", re.IGNORECASE | re.DOTALL)
"""Where a refresh leads: that is each page's own, as its address is."""

Key = tuple[str, ...]


@runtime_checkable
class Readable(Protocol):
    """Findings that are read from tables, some at a time."""

    def chosen(self, places: Sequence[int]) -> list[Finding]: ...


SHORTEST = 5
"""Characters of a cause's id that are shown at least."""


@dataclass(slots=True)
class Mark:
    """What of a finding decides whether it is reported, and with which others.

    `number` is its place among all that was found; `target` is where its subject leads. `leader` is the finding that it
    follows from: as a `consequence`, or because one edit fixes both. `accepted` and `cause` (the id) come as they are known.
    """

    number: int
    check: str
    cls: CheckClass
    severity: Severity
    url: str
    crawlers: tuple[str, ...]
    section: str
    place: Key
    relation: str = ""
    target: str = ""
    advice: Advice | None = None
    accepted: Accepted | None = None
    cause: str = ""
    leader: Mark | None = None
    consequence: bool = False
    pages: int = 1

    @property
    def address(self) -> str:
        """What it speaks of, as addresses are compared."""
        return subject_address(self.check, self.url)

    @property
    def follows(self) -> str:
        """The id of the cause that it follows from; of the first of several."""
        leader = self.leader
        while leader is not None and leader.leader is not None:
            leader = leader.leader
        return leader.cause if leader else ""


IN_TWO_PLACES = ("text", "status")
"""Kinds of evidence that a directive's line is not: the relation of two URLs says which rule makes both."""


def place_of(finding: Finding, pair: tuple[str, str] | None = None, found: rel.Relation | None = None) -> Key:
    """The place to edit for a finding, as its first evidence shows it; `found` is how the URLs of a pair relate."""
    if not finding.evidence:
        return (finding.section,)
    first = finding.evidence[0]
    if pair and found and first.kind not in ("robots", "sitemap", "intent"):
        shapes = () if found.is_plain else (rel.target_shape(pair[1]),)
        if first.kind in IN_TWO_PLACES:
            own = () if found.is_plain else (rel.target_shape(pair[0]),)
            return (first.kind, *own, *shapes)
        text = _around(first.text, pair[1]) if first.kind == "canonical" else None
        line = (first.kind, _plain(text)) if text is not None else line_of(first, "", finding.url, *pair)
        return (*line, *shapes)
    if first.kind == "status" and finding.cls is CheckClass.EXPOSED and "?" in finding.url:
        # parameters do the same whatever section takes them, and one that tells junk does so whatever stands beside it
        named = _parameters(_pairs(finding.url))
        told = telling_parameter(named[1:].split("&"))
        return (first.kind, f"?{told}" if told else named, pattern(first.text, (finding.url,)))
    return line_of(first, finding.section, finding.url, *finding.also[:1])


def _around(text: str, url: str) -> str | None:
    """A tag without the whole URL that it names between quotation marks, once; None if it does not, as `pattern` has to look then."""
    before, found, after = text.partition(url)
    return before + after if found and before[-1:] in "\"'" and after[:1] == before[-1:] else None


def line_of(line: Evidence, section: str, *urls: str) -> Key:
    """The place to edit that a line stands for, as it speaks of addresses of a section."""
    if line.kind == "robots":
        return ("robots", line.where, line.text)
    if line.kind == "sitemap":
        return ("sitemap", line.where)
    if line.kind == "intent":
        return ("intent", line.where, line.text)
    if line.kind == "text":  # each page's own heading: no line that is edited
        return (line.kind, section)
    text = _LEADS_TO.sub(r"\1", line.text) if line.kind == "tag" else line.text
    text = pattern(text, list(dict.fromkeys((*urls, line.where))))
    return (line.kind, text) if line.kind in DIRECTIVES else (line.kind, section, text)


def pattern(text: str, places: Sequence[str]) -> str:
    """A directive's text with the pages' own addresses and slugs, dates and numbers left out.

    `places` are addresses or files. What a template prints of them is removed whole, where it stands alone; the
    slug only where nothing longer of its page is found.
    """
    there, simple = "", True
    for place in places:
        if "%" in place:
            simple = False
        if len(place) > 2 and place in text:
            simple, there = simple and not there, place
    if simple and there:
        found = _without(text, there)
        if found != text and all(_path(place) in there for place in places):
            return _plain(found)  # all that could be found besides is a part of it
    taken: list[str] = []
    names = {name for place in places for name in _names(place)}  # a page's file and its address name it both
    for name in sorted(names, key=lambda n: (-len(n), n)):
        if name in text and not any(name in longer for longer in taken):
            found = _without(text, name)
            if found != text:
                text = found
                taken.append(name)
    return _plain(text)


@lru_cache(maxsize=4096)
def _plain(text: str) -> str:
    return _NUMBERS.sub("#", _DATE.sub("#", text))


def _pairs(url: str) -> set[str]:
    """The parameters of an address with their values."""
    return set(re.split("[&;]", url.partition("?")[2]))


def _parameters(pairs: set[str]) -> str:
    """The names of parameters, as one word."""
    return "?" + "&".join(sorted({pair.partition("=")[0] for pair in pairs}))


def _without(text: str, name: str) -> str:
    """A text without a name, where that stands alone and is not a part of a longer word."""
    kept, start = "", 0
    while (at := text.find(name, start)) >= 0:
        end = at + len(name)
        before, behind = text[at - 1 : at], text[end : end + 1]
        alone = not (before.isascii() and before.isalnum()) and not (
            behind.isascii() and (behind.isalnum() or behind in ("_", "-"))
        )
        kept += text[start : at if alone else end]
        start = end
    return kept + text[start:] if start else text


def _path(place: str) -> str:
    _, colon, rest = place.partition("://")
    return "/" + (rest.partition("/")[2] if colon else place)


def _names(place: str) -> Iterable[str]:
    """What a template prints of a page's own address: all of it, its path, its last segment."""
    path = _path(place)
    bare = path.partition("?")[0]
    slug = bare.removesuffix("index.html").rstrip("/").rpartition("/")[2]  # a folder's file says nothing of the page
    names = (
        place,
        path[1:],
        bare[1:] + ("index.html" if bare.endswith("/") else ""),
        bare[1:],
        bare[1:].removesuffix("index.html"),
        bare.strip("/"),
        slug,
        slug.rpartition(".")[0],
    )
    for name in names:
        if len(name) > 2:
            yield name
            if "%" in name:
                yield unquote(name)


def mark_of(finding: Finding, number: int, hit: Hit | None = None) -> Mark:
    """What of a finding its cause depends on."""
    pair = hit.pair if hit else None
    found = rel.relation(*pair) if pair else None
    advice = hit.advice if hit else finding.advice
    return Mark(
        number,
        finding.check,
        finding.cls,
        finding.severity,
        finding.url,
        finding.crawlers,
        finding.section,
        (hit.place if hit else ()) or place_of(finding, pair, found),
        str(found) if found else "",
        pair[1] if pair else "",
        (Advice(advice) if isinstance(advice, str) else advice) if advice else None,
        finding.accepted,
        pages=hit.pages if hit else 1,
    )


def gather_causes(findings: Sequence[Finding]) -> tuple[list[Finding], list[Cause]]:
    """Group findings by check and place to edit; the worst and largest first."""
    groups = by_cause([mark_of(f, n) for n, f in enumerate(findings)])
    marked = [replace(findings[m.number], cause=m.cause) for members in groups for m in members]
    return marked, causes_of(groups, marked)


ONE_TARGET, MANY_PARTS = "one-target", "part *"
VARIED = 3
"""Different parts from which on a template prints each page's own: a page's number, name or hash."""


def see_patterns(marks: Sequence[Mark]) -> None:
    """What no single pair of URLs shows: unrelated targets that are one and the same, parts that are each page's own."""
    unrelated = [m for m in marks if m.relation.endswith(rel.UNRELATED)]
    parted = [m for m in marks if m.relation.startswith(f"{rel.PART} ")]
    same = Counter((m.check, m.place, m.target) for m in unrelated)
    parts = Counter((m.check, m.place, m.relation) for m in parted)
    varied = Counter((check, place) for (check, place, _), count in parts.items() if count == 1)
    for mark in unrelated:
        if same[mark.check, mark.place, mark.target] > 1:
            mark.relation, mark.place = ONE_TARGET, (*mark.place, mark.target)
    for mark in parted:
        if parts[mark.check, mark.place, mark.relation] == 1 and varied[mark.check, mark.place] >= VARIED:
            mark.relation = MANY_PARTS


def id_of(check: str, place: Key, relation: str = "", advice: Advice | None = None) -> str:
    """The id of a cause: of its check, its relation, and the file and text to edit, never of a line's number."""
    parts = (check, relation, *place, *((advice.name,) if advice else ()))
    told = "\0".join(parts).encode("utf-8", "surrogatepass")
    return "c" + hashlib.blake2b(told, digest_size=5).hexdigest()


def shortened(ids: Iterable[str]) -> dict[str, str]:
    """Each id as its shortest prefix that is unique among them, `c` and four digits at least."""
    ordered = sorted(set(ids))
    least = dict.fromkeys(ordered, SHORTEST)
    for one, other in pairwise(ordered):
        alike = next((n for n, (a, b) in enumerate(zip(one, other, strict=True)) if a != b), len(one))
        for each in (one, other):
            least[each] = max(least[each], alike + 1)
    return {one: one[:length] for one, length in least.items()}


def by_cause(marks: Sequence[Mark]) -> list[list[Mark]]:
    """Marks grouped by cause, the worst and largest first and consequences last; each is given the id of its cause."""
    see_patterns(marks)
    groups: dict[tuple[str, Key, str, str, bool, bool], list[Mark]] = {}
    for mark in marks:
        advice = mark.advice.name if mark.advice else ""
        key = (mark.check, mark.place, mark.relation, advice, mark.accepted is not None, mark.consequence)
        groups.setdefault(key, []).append(mark)

    def order(item: tuple[tuple[str, Key, str, str, bool, bool], list[Mark]]) -> tuple[object, ...]:
        key, members = item
        severity = max(m.severity.weight for m in members)
        return (
            key[5],
            key[4],
            -severity,
            not checks()[key[0]].whole_host,
            -sum(m.pages for m in members),
            _CLASS_ORDER.index(members[0].cls),
            members[0].section.startswith("//"),
            key,
        )

    found = []
    for (check, place, relation, *_), members in sorted(groups.items(), key=order):
        members.sort(key=lambda m: (-m.severity.weight, m.url))
        cause = id_of(check, place, relation, members[0].advice)
        for mark in members:
            mark.cause = cause
        found.append(members)
    return found


def causes_of(groups: Sequence[Sequence[Mark]], findings: Sequence[Finding]) -> list[Cause]:
    """The causes of groups of marks; `findings` are theirs, in the same order."""
    causes: list[Cause] = []
    begins = list(accumulate((len(members) for members in groups), initial=0))[:-1]
    examples = findings.chosen(begins) if isinstance(findings, Readable) else [findings[at] for at in begins]
    begin = 0
    shorts = shortened(members[0].cause for members in groups)
    explained = Counter(m.follows for members in groups for m in members if m.consequence)
    for rank, members in enumerate(groups, 1):
        first, count = members[0], len(members)
        about = checks()[first.check]
        sections = Counter(m.section for m in members).most_common()
        example = examples[rank - 1]
        change = first.advice.change if first.advice else about.change
        now, instead = (change.of(example) if change else None) or ("", "")
        causes.append(
            Cause(
                id=first.cause,
                check=first.check,
                cls=first.cls,
                severity=Severity(max(m.severity.weight for m in members)),
                section=sections[0][0],
                count=count,
                summary=example.message if count == 1 else about.summary,
                mend=first.advice.text if first.advice else about.mend,
                findings=findings[begin : begin + count],
                accepted=first.accepted,
                sections=dict(sections),
                rank=rank,
                short=shorts[first.cause],
                relation=first.relation,
                follows=first.follows,
                consequence=first.consequence,
                consequences=explained[first.cause],
                now=now,
                instead=instead,
            )
        )
        begin += count
    return causes
