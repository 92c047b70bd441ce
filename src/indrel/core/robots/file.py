"""robots.txt: bytes to lines, groups and rules (RFC 9309 section 2.2)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property

from indrel.core.address import normalise_percent

MAX_OCTETS = 512_000
"""Bytes that decide; RFC 9309 section 2.5 asks for at least 500 KiB."""

READ_BYTES = 5 << 20
"""Bytes of a file that are read: what lies beyond the limit is reported, within reason."""

_TOKEN = re.compile(r"[A-Za-z_-]+")
_BAD_OCTET = re.compile(r"[\udc80-\udcff]+")
_NON_ASCII = re.compile(r"[^\x00-\x7f]+")
_LINE_END = re.compile(rb"\r\n|\r|\n")

AGENT = "user-agent"
FIELDS = frozenset({AGENT, "allow", "disallow", "sitemap"})
"""The fields with effect; `sitemap` comes from the sitemaps protocol."""


@dataclass(frozen=True, slots=True)
class Line:
    """One line with content: `text` as written, `field` in lower case, `value` without comment."""

    number: int
    text: str
    field: str
    value: str


@dataclass(frozen=True, slots=True)
class Pattern:
    """A rule's path ready to compare.

    `pieces` are what stands between the `*`; with `anchored` the last piece ends the address.
    `length` counts bytes as RFC 9309 section 2.2.2 does, wildcards as one each.
    """

    pieces: tuple[str, ...]
    anchored: bool
    length: int


@dataclass(frozen=True, slots=True)
class Rule:
    allow: bool
    path: str
    line: int
    text: str
    pattern: Pattern

    @property
    def label(self) -> str:
        return ("Allow: " if self.allow else "Disallow: ") + self.path


@dataclass(frozen=True, slots=True)
class Group:
    """One group: product tokens in lower case (`*` for all), the lines that name them, its rules."""

    agents: tuple[str, ...]
    agent_lines: tuple[Line, ...]
    rules: tuple[Rule, ...]
    empty_rules: int = 0


@dataclass(frozen=True, slots=True)
class SitemapLine:
    value: str
    line: int
    text: str


@dataclass(frozen=True)
class Ruleset:
    """The rules that hold for one crawler: all groups that name it, merged.

    `group` is the product token under which they stand, `*`, or None where no group holds.
    """

    group: str | None
    rules: tuple[Rule, ...]
    lines: tuple[Line, ...] = ()

    @cached_property
    def key(self) -> tuple[tuple[bool, str, int], ...]:
        """Equal for two crawlers exactly if the same rules decide for both."""
        return tuple((r.allow, r.path, r.line) for r in self.rules)


@dataclass(frozen=True)
class RobotsFile:
    """A robots.txt as read. `beyond` are lines past the bytes that decide, which have no effect."""

    size: int
    groups: tuple[Group, ...]
    lines: tuple[Line, ...]
    orphans: tuple[Rule, ...]
    sitemaps: tuple[SitemapLine, ...]
    has_bom: bool = False
    bad_utf8: bool = False
    beyond: int = 0
    _by_agent: dict[str, list[Group]] = field(default_factory=dict, repr=False)

    def ruleset(self, tokens: Iterable[str]) -> Ruleset:
        """The rules for a crawler known by `tokens` (its own first, then its family's).

        Stands on RFC 9309 section 2.2.1; a `*` among the tokens says that groups for all hold.
        """
        for token in tokens:
            groups = self._by_agent.get(token.lower())
            if groups:
                named = tuple(
                    line for g in groups for line, a in zip(g.agent_lines, g.agents, strict=True) if a == token.lower()
                )
                return Ruleset(token.lower(), tuple(r for g in groups for r in g.rules), named)
        return Ruleset(None, ())

    @property
    def agents(self) -> list[str]:
        return list(self._by_agent)


def product_token(value: str) -> str:
    """The part of a user-agent value that counts; empty where there is none."""
    value = value.strip()
    if value.startswith("*"):
        return "*"
    found = _TOKEN.match(value)
    return found[0].lower() if found else ""


def _escape_non_ascii(match: re.Match[str]) -> str:
    return "".join(f"%{octet:02X}" for octet in match[0].encode("utf-8", "surrogateescape"))


LITERAL = {"%2A": "\x01", "*": "\x01", "%24": "\x02", "$": "\x02"}
"""What stands for the literal `*` and `$` when patterns and paths are compared, however they were written."""


def _literal(text: str) -> str:
    for written, literal in LITERAL.items():
        text = text.replace(written, literal)
    return text


def comparable_path(path: str) -> str:
    """A normalised address's path and query in the form that patterns are compared with."""
    return _literal(_NON_ASCII.sub(_escape_non_ascii, path))


def written_path(path: str) -> str:
    """A comparable path as people write it."""
    return path.replace("\x01", "*").replace("\x02", "$")


def compile_path(path: str) -> Pattern:
    """Prepare a rule's path (RFC 9309 section 2.2.2 and 2.2.3)."""
    text = normalise_percent(_NON_ASCII.sub(_escape_non_ascii, path))
    length = len(text)
    anchored = text.endswith("$")
    if anchored:
        text = text[:-1]
    pieces = [_literal(piece) for piece in text.split("*")]
    if len(pieces) > 2:
        pieces = [pieces[0], *(p for p in pieces[1:-1] if p), pieces[-1]]
    return Pattern(tuple(pieces), anchored, length)


def _split_lines(data: bytes) -> Iterable[tuple[int, bytes, int]]:
    """Line number, line, offset of its first byte."""
    start, number = 0, 1
    for end in _LINE_END.finditer(data):
        yield number, data[start : end.start()], start
        start, number = end.end(), number + 1
    yield number, data[start:], start


def _read_line(number: int, raw: bytes) -> Line | None:
    text = raw.decode("utf-8", "backslashreplace")
    content = raw.partition(b"#")[0].strip().decode("utf-8", "surrogateescape")
    content = _BAD_OCTET.sub(_escape_non_ascii, content)
    if not content:
        return None
    name, colon, value = content.partition(":")
    return Line(number, text.strip(), name.strip().lower() if colon else "", value.strip() if colon else content)


class _GroupBuilder:
    """Collects agent lines and rules as they come (RFC 9309 section 2.2)."""

    def __init__(self) -> None:
        self.done: list[Group] = []
        self.agents: list[Line] = []
        self.rules: list[Rule] = []
        self.empty = 0
        self.saw_rule = False

    def close(self) -> None:
        if self.agents:
            tokens = tuple(product_token(a.value) for a in self.agents)
            self.done.append(Group(tokens, tuple(self.agents), tuple(self.rules), self.empty))
        self.agents, self.rules, self.empty, self.saw_rule = [], [], 0, False

    def agent(self, line: Line) -> None:
        if self.saw_rule:
            self.close()
        self.agents.append(line)

    def rule(self, line: Line) -> Rule | None:
        """Take a rule line; give it back if it stands before any group."""
        rule = Rule(line.field == "allow", line.value, line.number, line.text, compile_path(line.value))
        if not self.agents:
            return rule
        self.saw_rule = True
        if line.value:
            self.rules.append(rule)
        else:
            self.empty += 1
        return None


def parse(data: bytes) -> RobotsFile:
    """Read a robots.txt. Never fails: what cannot be read has no effect.

    A line that the byte limit cuts is dropped.
    """
    has_bom = data.startswith(b"\xef\xbb\xbf")
    body = data[3:] if has_bom else data
    try:
        body.decode("utf-8")
        bad_utf8 = False
    except UnicodeDecodeError:
        bad_utf8 = True
    limit = MAX_OCTETS - (3 if has_bom else 0)
    beyond = 0
    if len(body) > limit:
        cut = body[:limit]
        whole = body[limit - 1 : limit] in (b"\n", b"\r") or body[limit : limit + 1] in (b"\n", b"\r")
        keep = cut if whole else cut[: max(cut.rfind(b"\n"), cut.rfind(b"\r")) + 1]
        beyond = sum(1 for _, raw, _ in _split_lines(body[len(keep) :]) if _read_line(0, raw))
        body = keep

    lines: list[Line] = []
    orphans: list[Rule] = []
    sitemaps: list[SitemapLine] = []
    builder = _GroupBuilder()
    for number, raw, _ in _split_lines(body):
        line = _read_line(number, raw)
        if line is None:
            continue
        lines.append(line)
        if line.field == AGENT:
            builder.agent(line)
        elif line.field in ("allow", "disallow"):
            orphan = builder.rule(line)
            if orphan:
                orphans.append(orphan)
        elif line.field == "sitemap":
            sitemaps.append(SitemapLine(line.value, number, line.text))
    builder.close()

    by_agent: dict[str, list[Group]] = {}
    for group in builder.done:
        for token in dict.fromkeys(group.agents):
            if token:
                by_agent.setdefault(token, []).append(group)
    return RobotsFile(
        size=len(data),
        groups=tuple(builder.done),
        lines=tuple(lines),
        orphans=tuple(orphans),
        sitemaps=tuple(sitemaps),
        has_bom=has_bom,
        bad_utf8=bad_utf8,
        beyond=beyond,
        _by_agent=by_agent,
    )
