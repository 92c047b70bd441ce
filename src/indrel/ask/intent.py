"""The intent file by itself: which entry decides an address, which entries do nothing, and a first draft."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from os.path import commonprefix
from pathlib import Path
from typing import Any

from indrel.checks import judge, verdict_of
from indrel.checks.headline import WHOLE_SITE
from indrel.core.intent import Intent, Match, WantEntry, parse_intent
from indrel.core.model import Finding, Severity, State, Want, listing, plural
from indrel.decide.kinds import JUNK, implied_want, kind_of_address
from indrel.decide.predicates import MOST_AT_ONCE
from indrel.decide.sections import NUMBER
from indrel.decide.site import Site
from indrel.snapshot import Snapshot

MOST_ENTRIES = 15
"""Entries of a draft: it should be read and edited by a person."""

FEW_ADDRESSES = 2
DIFFERS = ("category", "numbered-page", "author-archive", "tag-archive", "date-archive", "attachment", "feed")
"""Kinds on which practice differs: the draft says so."""

REASONS = {
    Want.SHOW: "all of it is open now", Want.HIDE: "all of it is hidden now", Want.LOCK: "all of it is locked now",
    Want.DROP: "all of it is gone",
}  # fmt: skip
NONE_OPEN = "none of it is open now"

NOT_DRAFTED = ("other", "start", "article", "product", "listing", "error")


# ---------------------------------------------------------------- show

FEW_SETS = 20
"""Entries of which the sets of addresses' deciding entries are asked for together: each set takes memory."""


@dataclass(frozen=True)
class Shown:
    """Which entry decides an address, and which it shadows."""

    url: str
    kind: str
    want: str
    stated: bool
    entry: WantEntry | None
    shadows: tuple[WantEntry, ...]

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url, "kind": self.kind, "want": self.want, "stated": self.stated,
            "entry": _entry(self.entry) if self.entry else None, "shadows": [_entry(e) for e in self.shadows],
        }  # fmt: skip


def _entry(entry: WantEntry) -> dict[str, object]:
    return {"line": entry.line, "text": entry.text, "because": entry.because}


def show(intent: Intent, url: str, site: Site | None) -> Shown:
    """Which entry decides an address. Its kind is the snapshot's where it is known there, else its address tells."""
    kind = kind_of_address(url)
    want = implied_want(kind).value
    number = site.id_of(url) if site else None
    if site and number is not None:
        kind, want = site.rows("SELECT kind, want FROM fact WHERE id = ?", [number])[0]
    entries = intent.deciding(url, kind)
    if entries:
        return Shown(url, kind, entries[0].want, True, entries[0], tuple(entries[1:]))
    return Shown(url, kind, want, False, None, ())


# ---------------------------------------------------------------- check


@dataclass(frozen=True)
class Idle:
    """An entry of the intent file that does nothing, or stands against another."""

    line: int
    text: str
    problem: str

    def as_json(self) -> dict[str, object]:
        return {"line": self.line, "text": self.text, "problem": self.problem}


def check(site: Site, findings: Sequence[Finding]) -> list[Idle]:
    """Entries that match nothing, are always overruled, or contradict; acceptances that accept nothing."""
    intent = site.intent
    decides = dict(site.rows("SELECT entry, count(*) FROM fact WHERE known AND entry IS NOT NULL GROUP BY entry"))
    found: list[Idle] = []
    same: dict[tuple[Match | None, tuple[str, ...]], WantEntry] = {}
    idle: list[int] = []
    for number, entry in reversed(list(enumerate(intent.wants))):
        after = same.get((entry.match, entry.kinds))
        if after is not None:
            contradicts = f"contradicts line {after.line}, which wants {after.want} and decides"
            alike = f"repeats line {after.line}"
            found.append(Idle(entry.line, entry.text, contradicts if after.want is not entry.want else alike))
        elif not decides.get(number):
            idle.append(number)
        same[entry.match, entry.kinds] = entry
    for number, by in _deciding_instead(site, idle):
        entry, lines = intent.wants[number], [str(intent.wants[n].line) for n in by]
        overruled = f"is always overruled, by line{'s' if len(by) > 1 else ''} {listing(lines)}"
        found.append(Idle(entry.line, entry.text, overruled if by else "matches no URL of the snapshot"))
    hosts = {h for (h,) in site.rows("SELECT DISTINCT substr(origin, strpos(origin, '://') + 3) FROM address")}
    for host, line in intent.host_lines.items():
        if host not in hosts:
            found.append(
                Idle(line, f'name = "{host}"', "the snapshot does not know this host: audit again with this file")
            )
    for one in intent.accepted:
        holds = any(
            f.accepted and f.check == one.check and (not one.match or one.match.holds(f.address)) for f in findings
        )
        if not holds:
            match = f', match = "{one.match.text}"' if one.match else ""
            found.append(Idle(one.line, f'check = "{one.check}"{match}', "accepts no finding of the snapshot"))
    return sorted(found, key=lambda i: i.line)


def _deciding_instead(site: Site, entries: Sequence[int]) -> Iterator[tuple[int, list[int]]]:
    """Per entry of the intent the ones that decide the addresses it matches; none where it matches none."""
    matched = dict(_of_each(site, entries, "count(*)", MOST_AT_ONCE))
    others = dict(_of_each(site, [n for n in entries if matched[n]], "list(DISTINCT entry)", FEW_SETS))
    for number in entries:
        yield number, sorted(n for n in others.get(number, ()) if n is not None)


def _of_each(site: Site, entries: Sequence[int], what: str, at_once: int) -> Iterator[tuple[int, Any]]:
    """An aggregate over the known addresses that each entry matches, asked for many entries in one query."""
    for at in range(0, len(entries), at_once):
        some = entries[at : at + at_once]
        conditions = [site.intent.wants[n].sql(site.intent.closed) for n in some]
        asked = ", ".join(f"{what} FILTER (WHERE {c})" for c in conditions)
        yield from zip(some, site.rows(f"SELECT {asked} FROM fact WHERE known")[0], strict=True)


# ---------------------------------------------------------------- draft


@dataclass
class _Group:
    """Addresses that one entry of a draft would cover."""

    match: str | None
    kind: str | None
    states: Counter[str]
    listed: int
    want: Want = Want.ANY
    remark: str = ""
    because: str = ""
    decided: bool = False

    @property
    def size(self) -> int:
        return sum(self.states.values())

    @property
    def head(self) -> str:
        return f"match = {_text(self.match)}" if self.match else f'kind = "{self.kind}"'


def reach(site: Site) -> tuple[int, int]:
    """How many known addresses an entry of the intent file decides, of how many."""
    decided, known = site.rows("SELECT count(*) FILTER (entry IS NOT NULL), count(*) FROM fact WHERE known")[0]
    return int(decided), int(known)


def draft(site: Site) -> str:
    """A first intent file from what a snapshot shows, as text; judged before it is given: it adds nothing to fix."""
    verdict = verdict_of(site)
    found = verdict.findings
    before = {(f.check, f.url) for f in found if f.severity in (Severity.STOP, Severity.FIX)}
    groups = _groups(site)
    whole = None
    if verdict.headline.whole:  # the audited host is in the wrong state, not only another one
        whole = next((f for f in found if f.check in WHOLE_SITE and f.url.startswith(site.base_origin + "/")), None)
    for group in groups:
        _propose(group)
        if whole is not None:
            _withhold(group, whole)
    while True:
        text = _written(site, groups)
        intent = parse_intent(text, "indrel.toml")
        tried = Site(Snapshot(site.snapshot.path), site.crawlers, intent=intent)
        try:
            new = [
                f.address
                for f in judge(tried).findings
                if f.severity in (Severity.STOP, Severity.FIX) and (f.check, f.url) not in before
            ]
            guilty = _deciding(tried, new)
        finally:
            tried.close()
        if not guilty:
            return text
        decided = [g for g in groups if g.decided]
        for number, count in guilty.items():
            group = decided[number]
            group.remark = f"set {group.want} if you mean it: {plural(count, 'URL')} would need fixing"
            group.decided = False


def _deciding(site: Site, urls: Sequence[str]) -> dict[int, int]:
    """The entries that decide some addresses, and how many of them each does; without the ones that want nothing."""
    found = site.rows(
        """SELECT entry, count(*) FROM fact WHERE entry IS NOT NULL
        AND origin || path IN (SELECT unnest(?::VARCHAR[])) GROUP BY entry ORDER BY min(id)""",
        [sorted(set(urls))],
    )
    return {entry: count for entry, count in found if site.intent.wants[entry].want is not Want.ANY}


def _groups(site: Site) -> list[_Group]:
    """Kinds first, then sections, the largest; exceptions stand behind what they except from."""
    index = len(site.crawlers) - 1
    rows = site.rows(
        f"""SELECT {site.sections.sql} AS section, kind, {site.state_sql(index)} AS state, count(*), count(*) FILTER (listed),
            min(path), max(path) FROM fact WHERE known AND NOT closed AND origin = ? GROUP BY ALL ORDER BY ALL""",
        [site.base_origin],
    )
    kinds: dict[str, _Group] = {}
    sections: dict[str, _Group] = {}
    spans: dict[str, tuple[str, str]] = {}
    for section, kind, state, count, listed, first, last in rows:
        if kind not in NOT_DRAFTED:
            group = kinds.setdefault(kind, _Group(None, kind, Counter(), 0))
            group.states[state] += count
            group.listed += listed
        elif section not in ("/", "/*"):
            group = sections.setdefault(section, _Group(section, None, Counter(), 0))
            group.states[state] += count
            group.listed += listed
            low, high = spans.get(section, (first, last))
            spans[section] = min(low, first), max(high, last)
    for section, group in sections.items():
        group.match = section.replace(NUMBER, _numbers(*spans[section]))
    largest = sorted((g for g in kinds.values() if g.size >= FEW_ADDRESSES), key=lambda g: -g.size)[:6]
    room = MOST_ENTRIES - len(largest)
    chosen = sorted((g for g in sections.values() if g.size >= FEW_ADDRESSES), key=lambda g: (-g.size, g.match or ""))[
        :room
    ]
    return sorted(chosen, key=lambda g: g.match or "") + sorted(largest, key=lambda g: g.kind or "")


def _numbers(first: str, last: str) -> str:
    """The first folder of all paths from the first to the last, as a pattern: years, say, begin alike (`202*`)."""
    begin, whole, _ = commonprefix([first, last])[1:].partition("/")  # noqa: RUF071  # letter by letter: half a number
    return begin if whole else f"{begin}*"


def _propose(group: _Group) -> None:
    """Decide for the want that the present state shows where it is one state; else propose the commonest."""
    wants = {State.OPEN: Want.SHOW, State.HIDDEN: Want.HIDE, State.LOCKED: Want.LOCK, State.GONE: Want.DROP}
    states = [State(s) for s, n in group.states.most_common() if n]
    group.want = next((wants[s] for s in states if s in wants), Want.ANY)
    junk = group.kind in JUNK and group.kind not in DIFFERS
    if junk:
        group.want = Want.HIDE
    group.decided = len(states) == 1 and wants.get(states[0]) is group.want
    if junk and State.FOLDED in states and {State.FOLDED, State.HIDDEN}.issuperset(states):
        group.decided, group.because = True, NONE_OPEN  # beside its section, which may be open
    if group.kind in DIFFERS:
        group.remark = "practice differs: this is the present state"
    elif junk and not group.decided:
        group.remark = "most sites hide these"
    elif State.BARRED in states:
        group.remark = "bare URLs of blocked pages can still be indexed"
    elif not group.decided:
        group.remark = "states differ: set what you want"


def _withhold(group: _Group, whole: Finding) -> None:
    """Propose nothing from states while the whole site is in the wrong one."""
    if group.kind not in JUNK:
        group.want = Want.ANY
    group.decided = False
    group.remark = f"the states say nothing as long as {whole.check} is not fixed: set what you want"


def _written(site: Site, groups: Iterable[_Group]) -> str:
    host = site.base_origin.partition("://")[2]
    day = str(site.meta.get("started") or "")[:10]
    hosts = ", ".join(_text(h) for h in site.meta.get("hosts", []) if h != host and h not in site.intent.closed)
    lines = [
        f"# What the owner of {host} wants: a first draft from the audit of {day}. Edit it to state what you want.",
        *([] if site.complete else ["# That audit is incomplete: pages that were not read may differ."]),
        "# want: show, hide, lock, drop or any. The last entry that matches decides.",
        "crawlers = [" + ", ".join(_text(c.token) for c in site.crawlers) + "]",
    ]
    lines += [f"hosts = [{hosts}]"] if hosts else []
    for name in sorted(site.intent.closed):
        lines += ["", "[[host]]", f"name = {_text(name)}", "closed = true"]
    for group in groups:
        states = ", ".join(f"{n:,} {s}" for s, n in group.states.most_common())
        said = f"{plural(group.size, 'URL')}: {states}; {group.listed:,} in a sitemap"
        said += f"; {group.remark}" if group.remark else ""
        if group.decided:
            lines += [
                "",
                f"[[want]]  # {said}",
                group.head,
                f'want = "{group.want}"',
                f'because = "{group.because or REASONS[group.want]}"',
            ]
        else:
            lines += ["", f"# [[want]]  # {said}", f"# {group.head}", f'# want = "{group.want}"']
    return "\n".join(lines) + "\n"


def _text(value: str) -> str:
    """A text as TOML writes it."""
    return json.dumps(value, ensure_ascii=False)


def write_draft(path: Path, text: str) -> None:
    """Write a draft to a file that is not there yet."""
    from indrel.base.errors import UsageError
    from indrel.base.files import write_whole

    if path.exists():
        raise UsageError(f"{path} exists and was not changed; name another file")
    write_whole(path, text.encode())
