"""Findings gathered by cause: the same check, the same place to edit.

The place is the rule's line, the sitemap file, or, for pages, the directive as a pattern: its text with the
page's own address, slug, numbers and dates left out. So a template's line that prints each page's own name
is one cause, whatever sections it reaches.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from functools import lru_cache
from urllib.parse import unquote

from indrel.checks.catalogue import checks
from indrel.core.address import split
from indrel.core.model import Cause, CheckClass, Finding, Severity

WHOLE_HOSTS = (
    "start-not-open", "site-barred", "site-noindex", "robots-unreachable", "robots-is-page", "host-open", "open-locked",
    "site-nofollow",
)  # fmt: skip
"""Checks that concern a whole host, or that let strangers in: told first among findings of one severity."""

DIRECTIVES = ("tag", "header", "canonical", "link", "script")
"""Kinds of evidence that stand in a template or configuration, whatever section prints them."""

_CLASS_ORDER = list(CheckClass)
_NUMBERS = re.compile(r"\d+")
_DATE = re.compile(
    r"\b\d{4}-\d{2}-\d{2}(?:[T ][\d:.+Z-]+)?|\b\d{1,2} [A-Z][a-z]{2,8} \d{4}(?: [\d:]+(?: [A-Z]{3,4})?)?"
)

Key = tuple[str, ...]


def place_of(finding: Finding) -> Key:
    """The place to edit for a finding, as its first evidence shows it."""
    if not finding.evidence:
        return (finding.section,)
    first = finding.evidence[0]
    if first.kind == "robots":
        return ("robots", first.where, str(first.line), first.text)
    if first.kind == "sitemap":
        return ("sitemap", first.where)
    if first.kind == "intent":
        return ("intent", first.where, str(first.line))
    if first.kind == "text" and finding.also:
        # two addresses share it: the place is what makes both, not what they say
        return (first.kind, finding.section, _apart(finding.url, finding.also[0]))
    text = pattern(first.text, dict.fromkeys((finding.url, first.where, *finding.also[:1])))
    return (first.kind, text) if first.kind in DIRECTIVES else (first.kind, finding.section, text)


def pattern(text: str, places: Iterable[str]) -> str:
    """A directive's text with the pages' own addresses and slugs, dates and numbers left out.

    `places` are addresses or files. What a template prints of them is taken out whole, where it stands alone; the
    slug only where nothing longer of its page is found.
    """
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


def _apart(one: str, other: str) -> str:
    """How two addresses differ, in a way that many pairs may share: in parameters, or in their paths without numbers."""
    (path, _, query), (path2, _, query2) = one.partition("?"), other.partition("?")
    if path != path2:
        return f"{_plain(path)} {_plain(path2)}"
    pairs, pairs2 = set(query.split("&")), set(query2.split("&"))
    return "?" + "&".join(sorted({pair.partition("=")[0] for pair in pairs ^ pairs2}))


def _without(text: str, name: str) -> str:
    """A text without a name, where that stands alone and is not a part of a longer word."""
    kept, start = [], 0
    while (at := text.find(name, start)) >= 0:
        end = at + len(name)
        before, behind = text[at - 1 : at], text[end : end + 1]
        alone = not (before.isascii() and before.isalnum()) and not (
            behind.isascii() and (behind.isalnum() or behind in ("_", "-"))
        )
        kept.append(text[start : at if alone else end])
        start = end
    return "".join([*kept, text[start:]])


def _names(place: str) -> Iterable[str]:
    """What a template prints of a page's own address: all of it, its path, its last segment."""
    path = split(place).path if "://" in place else "/" + place
    bare = path.partition("?")[0]
    slug = bare.removesuffix("index.html").rstrip("/").rpartition("/")[2]  # a folder's file says nothing of the page
    names = (
        place,
        path[1:],
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


def gather_causes(findings: list[Finding]) -> tuple[list[Finding], list[Cause]]:
    """Group findings by check and place to edit; the worst and largest first."""
    groups: dict[tuple[str, Key, bool], list[Finding]] = {}
    for finding in findings:
        groups.setdefault((finding.check, place_of(finding), finding.accepted is not None), []).append(finding)

    def order(item: tuple[tuple[str, Key, bool], list[Finding]]) -> tuple[object, ...]:
        key, members = item
        severity = max(f.severity.value for f in members)
        return (
            key[2],
            -severity,
            key[0] not in WHOLE_HOSTS,
            _CLASS_ORDER.index(members[0].cls),
            -len(members),
            members[0].section.startswith("//"),
            key,
        )

    causes: list[Cause] = []
    marked: list[Finding] = []
    for number, (_, members) in enumerate(sorted(groups.items(), key=order), 1):
        members = [replace(f, cause=f"c{number}") for f in sorted(members, key=lambda f: (-f.severity.value, f.url))]
        first = members[0]
        about = checks()[first.check]
        sections = Counter(f.section for f in members).most_common()
        summary = first.message if len(members) == 1 else about.summary
        causes.append(
            Cause(
                f"c{number}", first.check, first.cls, Severity(max(f.severity.value for f in members)), sections[0][0],
                len(members), summary, first.mend or about.mend, tuple(members), sections=dict(sections),
            )
        )  # fmt: skip
        marked += members
    return marked, causes
