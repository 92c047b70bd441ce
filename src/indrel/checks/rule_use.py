"""What the rules of a robots.txt do on the known URLs: which decide none, and what the ones that match nothing were meant for."""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple

from indrel.checks.topics.robots_lines import beaten, readable
from indrel.core.address import split
from indrel.core.robots import HostRobots, Rule
from indrel.core.robots.file import compile_path, written_path
from indrel.decide.site import Site, once

SEVERAL = 2
"""Rules that begin with a folder which the site does not have, from which on they were written for another base path."""


class RuleUse(NamedTuple):
    """What a rule does on this site: URLs that it decides, URLs that it matches but loses, and its group."""

    rule: Rule
    group: str
    decides: int
    loses: int
    wanted: int


def rule_uses(site: Site, host: HostRobots) -> list[RuleUse]:
    """Per group and rule of a robots.txt, what it does to the known URLs, pages and resources."""
    import numpy as np

    from indrel.core.robots import match_many

    ids, paths = site.paths(host.origin)
    wanted_ids = [i for (i,) in site.rows("SELECT id FROM fact WHERE want = 'show'")]
    wanted = np.isin(ids, np.array(wanted_ids, dtype=ids.dtype))
    uses = []
    for token in host.file.agents:
        rules_of = host.file.ruleset((token,)).rules
        decided = match_many(rules_of, paths)
        for index, rule in enumerate(rules_of):
            mine = decided == index
            matched = int((match_many([rule], paths) >= 0).sum())
            uses.append(RuleUse(rule, token, int(mine.sum()), matched - int(mine.sum()), int((mine & wanted).sum())))
    return uses


class Unused(NamedTuple):
    """Rules of a robots.txt that decide no known URL: all of them, by line what rules that match none would match in another
    letter case, and those that were written for another base path."""

    rules: list[Rule]
    slips: dict[int, str]
    misplaced: WrongBase | None


@once
def unused(site: Site) -> dict[str, Unused]:
    """By origin; worked out once for all checks."""
    found = {}
    for host in readable(site):
        rules = _unused(site, host)
        silent = _silent(site, host, rules)
        found[host.origin] = Unused(rules, _case_slips(site, host, silent), _wrong_base(site, host, silent))
    return found


def _unused(site: Site, host: HostRobots) -> list[Rule]:
    """Rules that decide no known URL in any group, except the ones that can never win."""
    from indrel.core.robots import match_many

    paths = site.paths(host.origin)[1]
    used: set[int] = set()
    everything: dict[int, Rule] = {}
    for token in host.file.agents:
        rules_of = host.file.ruleset((token,)).rules
        everything |= {r.line: r for r in rules_of}
        used |= {rules_of[i].line for i in set(match_many(rules_of, paths).tolist()) if i >= 0}
    used |= {rule.line for rule, _ in beaten(host)}
    return [rule for line, rule in sorted(everything.items()) if line not in used]


def _silent(site: Site, host: HostRobots, rules: list[Rule]) -> list[Rule]:
    """The rules among some that match no known URL; the others lose to a longer rule."""
    from indrel.core.robots import match_many

    paths = site.paths(host.origin)[1]
    return [rule for rule in rules if not (match_many([rule], paths) >= 0).any()]


def _as(rule: Rule, path: str) -> Rule:
    """A rule as if it had another path."""
    return Rule(rule.allow, path, rule.line, rule.text, compile_path(path))


def _case_slips(site: Site, host: HostRobots, silent: list[Rule]) -> dict[int, str]:
    """Rules that match nothing, but would match known URLs if case were ignored: line and one such path."""
    from indrel.core.robots import match_many

    if not silent:
        return {}
    paths = site.paths(host.origin)[1]
    lowered = paths.lowered()
    found = {}
    for rule in silent:
        hits = (match_many([_as(rule, rule.path.lower())], lowered) >= 0).nonzero()[0]
        if len(hits):
            found[rule.line] = written_path(paths[int(hits[0])].decode())
    return found


class WrongBase(NamedTuple):
    """Rules of a robots.txt that match nothing and would decide known URLs under another base path, each with the path to write."""

    base: str
    is_missing: bool
    rules: tuple[tuple[Rule, str], ...]
    urls: int
    wanted: int

    @property
    def fault(self) -> str:
        if self.is_missing:
            return f"lack the folder {self.base}/ that the site is in"
        return f"begin with {self.base}/, which the site does not have"


def _wrong_base(site: Site, host: HostRobots, silent: list[Rule]) -> WrongBase | None:
    """Rules that were written for another base path than the site's: without its folder, or with one that it has not."""
    from indrel.core.robots import match_many

    if host.origin != site.base_origin or site.is_lone_file:
        return None
    ids, paths = site.paths(host.origin)
    silent = [rule for rule in silent if rule.path.startswith("/")]
    here = split(site.base).path.partition("?")[0].rpartition("/")[0]
    is_missing = here != ""
    if is_missing:
        outside = site.one(
            "SELECT count(*) FROM fact WHERE origin = ? AND known AND html AND status < 300 AND NOT starts_with(path, ?) AND path <> '/'",
            [host.origin, here],
        )
        moved = [(r, here + r.path) for r in silent if not r.path.startswith(here + "/")]
        if outside or not moved:
            return None
    else:
        first = Counter(r.path.split("/")[1] for r in silent if r.path.count("/") > 1)
        folder, count = first.most_common(1)[0] if first else ("", 0)
        if count < SEVERAL or not folder or "*" in folder:
            return None
        here = f"/{folder}"
        moved = [
            (r, r.path.removeprefix(here)) for r in silent if r.path.startswith(here + "/") and r.path != here + "/"
        ]
    wanted = {number for (number,) in site.rows("SELECT id FROM fact WHERE want = 'show'")} if moved else set()
    found: list[tuple[Rule, str]] = []
    known: set[int] = set()
    blocked: set[int] = set()
    for rule, path in moved:
        hits = ids[match_many([_as(rule, path)], paths) >= 0].tolist()
        if hits:
            found.append((rule, path))
            known.update(hits)
            blocked.update(() if rule.allow else wanted.intersection(hits))
    if not found or (not is_missing and len(found) < SEVERAL):
        return None
    return WrongBase(here, is_missing, tuple(found), len(known), len(blocked))
