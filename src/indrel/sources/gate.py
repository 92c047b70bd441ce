"""What may be fetched: the robots.txt of every authority met, asked on behalf of the audited crawlers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from indrel.core.address import split
from indrel.core.crawlers import OWN_TOKEN, Crawler
from indrel.core.robots import ALWAYS_ALLOWED, Access, Ruleset, Verdict, decide

if TYPE_CHECKING:
    from indrel.gather.recorder import Recorder


@dataclass(frozen=True)
class _Origin:
    access: Access
    rulesets: tuple[Ruleset, ...]
    own: Ruleset | None
    masks: tuple[int, ...]
    """For each of the rulesets the crawlers that it holds for."""


class Gate:
    """Decides which addresses may be fetched.

    An address that none of the audited crawlers may fetch is not fetched; a group that names
    Indrel is obeyed before all else.
    """

    def __init__(self, crawlers: Sequence[Crawler]) -> None:
        self._crawlers = crawlers
        self._origins: dict[str, _Origin] = {}

    def __contains__(self, origin: str) -> bool:
        return origin in self._origins

    def learn(self, origin: str, status: int | None, hops: int, body: bytes) -> None:
        """Take note of what a host's robots.txt answered."""
        verdict = Verdict.of(status, hops, body)
        distinct: dict[object, Ruleset] = {}
        masks: dict[object, int] = {}
        for i, crawler in enumerate(self._crawlers):
            rules = verdict.ruleset(crawler)
            distinct.setdefault(rules.key, rules)
            masks[rules.key] = masks.get(rules.key, 0) | 1 << i
        own = verdict.file.ruleset((OWN_TOKEN,))
        self._origins[origin] = _Origin(
            verdict.access,
            tuple(distinct.values()),
            own if own.group == OWN_TOKEN else None,
            tuple(masks[key] for key in distinct),
        )

    def allows(self, origin: str, path: str) -> bool:
        """Whether a path of an origin may be fetched; an origin not learnt of blocks nothing."""
        known = self._origins.get(origin)
        if known is None or known.access is Access.ALL_ALLOWED:
            return True
        if known.access is Access.ALL_BARRED:
            return False
        if known.own is not None:
            return decide(known.own.rules, path)[0]
        return any(decide(rules.rules, path)[0] for rules in known.rulesets)

    def barred(self, url: str) -> int:
        """The audited crawlers that may not fetch an address, as a mask; all, where Indrel itself may not."""
        parts = split(url)
        everyone = (1 << len(self._crawlers)) - 1
        known = self._origins.get(parts.origin)
        if known is None or known.access is Access.ALL_ALLOWED or parts.path == ALWAYS_ALLOWED:
            return 0
        if known.access is Access.ALL_BARRED or (known.own is not None and not decide(known.own.rules, parts.path)[0]):
            return everyone
        pairs = zip(known.rulesets, known.masks, strict=True)
        return sum(mask for rules, mask in pairs if not decide(rules.rules, parts.path)[0])

    def barring(self, url: str) -> tuple[str, int] | None:
        """The rule that blocks an address for the audited crawlers, as origin and line; None where none of theirs does."""
        parts = split(url)
        known = self._origins.get(parts.origin)
        if known is None or known.access is not Access.RULES or known.own is not None:
            return None
        for rules in known.rulesets:
            allowed, rule = decide(rules.rules, parts.path)
            if rule is not None and not allowed:
                return parts.origin, rule.line
        return None


RESOURCE_HOSTS = 40
"""Hosts that serve resources whose robots.txt is requested, sorted by how many they serve."""


def resource_hosts(recorder: Recorder) -> list[str]:
    """The origins that serve what pages need to be rendered, by the number of resources."""
    recorder.commit(force=True)
    rows = recorder.writer.con.execute(
        """SELECT a.origin FROM resource r JOIN address a ON a.id = r.target
        GROUP BY a.origin ORDER BY count(*) DESC, a.origin LIMIT ?""",
        [RESOURCE_HOSTS],
    ).fetchall()
    return [origin for (origin,) in rows]
