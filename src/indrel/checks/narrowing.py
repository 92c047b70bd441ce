"""A rule of robots.txt that catches more than it means: the smallest edit that frees the wanted pages, tried on all known URLs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import Advice
from indrel.checks.changes import ROBOTS, Change, to
from indrel.core.address import origin_of, split
from indrel.core.model import plural, verb
from indrel.core.robots import HostRobots, Rule, decide
from indrel.decide.site import Site, once

MOST_ALLOWED = 5
MOST_TRIED = 200_000
"""URLs of one rule up to which edits are tried."""

FEW = 500
"""Paths that are matched one by one: the array library takes longer to load."""

_WORD_END = re.compile(r"[A-Za-z0-9_-]$")


class Edit(NamedTuple):
    """What takes the place of a rule's line, in lines of robots.txt; none removes it."""

    lines: tuple[str, ...]
    words: str
    is_safe: bool = False
    """Whether it still means what the rule says if no URL is known that it keeps blocked."""


def narrower(site: Site, url: str, mask: int) -> Advice | str:
    """What to write instead of the rule that blocks a wanted page, if one edit frees the wanted pages and no other."""
    told: dict[tuple[str, int], Advice | None] = site.kept.setdefault("narrower", {})
    host = site.robots.get(origin_of(url))
    crawler = next((c for i, c in enumerate(site.crawlers) if mask >> i & 1), None)
    rule = site.rule_for(url, crawler)[1] if host and crawler else None
    if host is None or rule is None:
        return ""
    key = host.origin, rule.line
    if key not in told:
        told[key] = narrowed(site, host, rule)
    if told[key] is not None:
        return told[key] or ""
    loses = losing_allow(site, url, mask)
    return Advice(f"Write a longer Allow rule: {loses}.", key="allow") if loses else ""


def narrowed(site: Site, host: HostRobots, rule: Rule) -> Advice | None:
    """What to write instead of a rule that blocks wanted pages, with what that does; None if no single edit is right."""
    caught = _caught(site).get((host.origin, rule.line, rule.text), [])
    paths = [path for path, _ in caught]
    wanted = [path for path, want in caught if want == "show"]
    if not wanted or len(caught) > MOST_TRIED:
        return None
    for edit in _edits(rule, wanted):
        after = edited(host, [rule.line], edit.lines)
        opened = set(paths) - _barred(site, after, paths)
        kept = len(paths) - len(opened)
        if opened == set(wanted) and (kept or edit.is_safe):
            proof = f"{plural(len(wanted), 'wanted page')} can be fetched"
            proof += f", and {plural(kept, 'other URL')} {verb(kept, 'stays', 'stay')} blocked" if kept else ""
            also = f"{code(rule.text)} also catches {plural(len(wanted), 'wanted page')}"
            return Advice(f"{also}: {edit.words}.", Change(ROBOTS, to("\n".join(edit.lines))), "narrow", proof)
    return None


def losing_allow(site: Site, url: str, mask: int) -> str:
    """The Allow rule that was probably meant to let a URL through and loses to a longer rule, in words; empty without one."""
    for i, crawler in enumerate(site.crawlers):
        host = site.robots.get(split(url).origin)
        if host and mask >> i & 1:
            hits = host.verdict.matching(split(url).path, crawler)
            allows = [rule for rule in hits[1:] if rule.allow]
            if hits and not hits[0].allow and allows:
                return f"{code(allows[0].text)} (line {allows[0].line}) loses because {code(hits[0].text)} is longer"
    return ""


@once
def _caught(site: Site) -> dict[tuple[str, int, str], list[tuple[str, str]]]:
    """By host, line and text of a rule that blocks wanted pages: the paths of the known URLs that it blocks, and their wants."""
    found: dict[tuple[str, int, str], list[tuple[str, str]]] = {}
    for origin, line, text, path, want in site.rows(
        """WITH told AS (SELECT DISTINCT f.origin, r.line, r.text, f.path, f.want FROM reason r JOIN fact f ON f.id = r.address
                WHERE r.kind = 'robots' AND f.known)
        SELECT * FROM told WHERE (origin, line, text) IN (SELECT (origin, line, text) FROM told WHERE want = 'show')
        ORDER BY origin, line, path"""
    ):
        found.setdefault((origin, line, text), []).append((path, want))
    return found


def _edits(rule: Rule, wanted: list[str]) -> Iterator[Edit]:
    field = rule.text.partition(":")[0].strip()
    path = rule.path
    plain = not path.endswith(("$", "*", "/"))
    if plain and _WORD_END.search(path):
        for ending in ("/", "$"):
            line = f"{field}: {path}{ending}"
            yield Edit((line,), f"end it with `{ending}`, as in {code(line)}", ending == "/" or "*" in path)
        if "*" in path:
            word = re.split(r"[*/]", path)[-1]
            line = f"{field}: {path.removesuffix(word)}/{word}$" if word and not path.endswith(f"/{word}") else ""
            if line:
                yield Edit((line,), f"write {code(line)} instead", True)
    if len(wanted) <= MOST_ALLOWED and all(len(one) > len(path) for one in wanted):
        lines = tuple(f"Allow: {one}" for one in sorted(wanted))
        yield Edit((rule.text, *lines), f"add {' and '.join(code(one) for one in lines)}")


def edited(host: HostRobots, places: Iterable[int], lines: Sequence[str]) -> HostRobots:
    """A robots.txt with other lines in place of each line of these numbers."""
    body = re.split(rb"\r\n|\n|\r", host.body)
    for line in sorted(places, reverse=True):
        body[line - 1 : line] = [new.encode() for new in lines]
    return HostRobots.given(host.origin, b"\n".join(body), host.where)


def changed_by(
    site: Site, host: HostRobots, places: Iterable[int], lines: Sequence[str], paths: list[str]
) -> tuple[list[str], list[str]]:
    """The paths among those given that every audited crawler may fetch once lines are replaced, and the ones that some then may not."""
    before, after = _barred(site, host, paths), _barred(site, edited(host, places, lines), paths)
    return sorted(before - after), sorted(after - before)


def _barred(site: Site, host: HostRobots, paths: list[str]) -> set[str]:
    """The paths that a robots.txt blocks for some audited crawler."""
    found: set[str] = set()
    for rules in {ruleset.key: ruleset.rules for c in site.crawlers for ruleset in (host.ruleset(c),)}.values():
        if len(paths) <= FEW:
            found |= {path for path in paths if not decide(rules, path)[0]}
            continue
        from indrel.core.robots import match_many

        decided = match_many(rules, paths)
        found |= {path for path, at in zip(paths, decided.tolist(), strict=True) if at >= 0 and not rules[at].allow}
    return found
