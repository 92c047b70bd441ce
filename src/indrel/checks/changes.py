"""What a check knows about its fix: which evidence must change, what its text should be, and what that does."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from indrel.core.address import split
from indrel.core.model import Evidence, Finding

GOES = "(remove the line)"
TAG = '<meta name="robots" content="noindex">'
HEADER = "X-Robots-Tag: noindex"

After = Callable[[Finding, str], str | None]
"""From a finding and the present text to the text as it should be; None if a person must choose."""


class Effect(StrEnum):
    """What a change does to the facts, so that it can be tried on them before it is advised."""

    NO_NOINDEX = "the page loses this noindex"
    NOINDEX = "the page gets a noindex"
    OWN_CANONICAL = "the page is its own canonical"
    UNLISTED = "the sitemap loses the entry"
    RULE = "the line of robots.txt is replaced"


@dataclass(frozen=True, slots=True)
class Change:
    """The first evidence of one of `kinds` must change, to what `after` makes of its text; `effect` is what that does, if it
    concerns whether pages can be fetched or indexed."""

    kinds: tuple[str, ...]
    after: After
    effect: Effect | None = None

    def of(self, finding: Finding) -> tuple[str, str] | None:
        """Before and after; None if a person must choose."""
        evidence = first(finding, self.kinds)
        text = self.after(finding, evidence.text) if evidence else None
        return (evidence.text, text) if evidence and text is not None and text != evidence.text else None


def first(finding: Finding, kinds: tuple[str, ...]) -> Evidence | None:
    """The first evidence of some kinds."""
    return next((e for e in finding.evidence if e.kind in kinds), None)


def to(text: str) -> After:
    """Always the same text."""
    return lambda finding, before: text


def without(*tokens: str) -> After:
    """A robots tag or header without some tokens; all of it goes where nothing is left."""

    def after(finding: Finding, before: str) -> str:
        kept = re.sub(rf"\b({'|'.join(tokens)})\b\s*,?\s*", "", before, flags=re.IGNORECASE)
        empty = re.search(r"content\s*=\s*([\"']?)\s*\1\s*/?>|X-Robots-Tag:\s*$", kept, re.IGNORECASE)
        return GOES if empty else re.sub(r",\s*([\"'])", r"\1", kept)

    return after


def each(attribute: str, meant: Callable[[str], dict[str, str]]) -> After:
    """A tag with the words of an attribute that `meant` takes for slips replaced by what they should be."""
    pattern = re.compile(rf"(\b{attribute}\s*=\s*)(\"[^\"]*\"|'[^']*'|[^\s>]+)", re.IGNORECASE)

    def after(finding: Finding, before: str) -> str | None:
        found = pattern.search(before)
        if found is None:
            return None
        value = found[2]
        for wrong, right in meant(value.strip("\"'")).items():
            whole = rf"(?<![\w-]){re.escape(wrong)}(?![\w-])"  # not where it is a part of another word
            value = re.sub(whole, lambda _, new=right: new, value, count=1, flags=re.IGNORECASE)
        return before[: found.start(2)] + value + before[found.end(2) :]

    return after


def with_rel(word: str) -> After:
    """A link with a rel, where it has none."""

    def after(finding: Finding, before: str) -> str | None:
        bare = before.startswith("<a") and " rel=" not in before
        return re.sub(r"^<a\b", f'<a rel="{word}"', before) if bare else None

    return after


_HREF = re.compile(r"(\bhref\s*=\s*)(\"[^\"]*\"|'[^']*'|[^\s>]+)", re.IGNORECASE)


def with_path(finding: Finding, before: str) -> str | None:
    """A link that leads to the path of the URL that it means, the first of `also`."""
    path = split(finding.also[0]).path if finding.also else ""
    after = re.sub(
        r"(\bhref\s*=\s*)(\"[^\"]*\"|'[^']*'|[^\s>]+)",
        lambda found: f'{found[1]}"{path}"',
        before,
        count=1,
        flags=re.IGNORECASE,
    )
    return after if path else None


def line_with(path: Callable[[str], str | None]) -> After:
    """A robots.txt line with another path, made from the one that it has."""

    def after(finding: Finding, before: str) -> str | None:
        field, colon, value = before.partition(":")
        new = path(value.partition("#")[0].strip()) if colon else None
        return f"{field}: {new}" if new is not None else None

    return after


def in_its_case(finding: Finding, before: str) -> str | None:
    """A rule in the case that the address has which it was meant for."""
    field, colon, path = before.partition(":")
    known = split(finding.also[0]).path if finding.also else ""
    path = path.strip()
    return f"{field}{colon} {known[: len(path)]}" if known.lower().startswith(path.lower()) else None


def canonical_tag(url: str) -> str:
    """The tag as it should be written."""
    return f'<link rel="canonical" href="{url}">'


STATUS, ROBOTS, SAID, LINK, NAMED = ("status",), ("robots",), ("tag", "header"), ("link",), ("canonical",)

NO_NOINDEX = Change(SAID, without("noindex", "none"), Effect.NO_NOINDEX)
HAS_NOINDEX = Change(STATUS, to(f"{TAG} in the head, or the header {HEADER}"), Effect.NOINDEX)
NOT_FOUND = Change(STATUS, to("404 Not Found"))
LINE_GOES = Change(ROBOTS, to(GOES), Effect.RULE)
NAMES_ITSELF = Change(NAMED, lambda finding, before: canonical_tag(finding.url), Effect.OWN_CANONICAL)
