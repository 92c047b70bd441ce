"""What may be fetched: the robots.txt of every authority met, asked on behalf of the audited crawlers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from indrel.core.address import split
from indrel.core.crawlers import OWN_TOKEN, Crawler
from indrel.core.robots import ALWAYS_ALLOWED, Access, Ruleset, Verdict, decide, match_many
from indrel.ground.arrow import pa

_FEW = 200
"""Up to this many (addresses times rules), deciding one by one is quicker."""


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

    def allowed(self, origin: str, paths: Sequence[str]) -> npt.NDArray[np.bool_]:
        """Which paths of an origin may be fetched; an origin not learnt of bars nothing."""
        known = self._origins.get(origin)
        if known is None or known.access is Access.ALL_ALLOWED:
            return np.ones(len(paths), dtype=bool)
        if known.access is Access.ALL_BARRED:
            return np.zeros(len(paths), dtype=bool)
        if known.own is not None:
            return _allowed(known.own, paths)
        result = np.zeros(len(paths), dtype=bool)
        for rules in known.rulesets:
            result |= _allowed(rules, paths)
        return result

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
        """The rule that bars an address for the audited crawlers, as origin and line; None where none of theirs does."""
        parts = split(url)
        known = self._origins.get(parts.origin)
        if known is None or known.access is not Access.RULES or known.own is not None:
            return None
        for rules in known.rulesets:
            allowed, rule = decide(rules.rules, parts.path)
            if rule is not None and not allowed:
                return parts.origin, rule.line
        return None


def _allowed(rules: Ruleset, paths: Sequence[str]) -> npt.NDArray[np.bool_]:
    if not rules.rules:
        return np.ones(len(paths), dtype=bool)
    if ALWAYS_ALLOWED in paths:
        return np.array([path == ALWAYS_ALLOWED or decide(rules.rules, path)[0] for path in paths], dtype=bool)
    if len(paths) * len(rules.rules) <= _FEW:
        return np.array([decide(rules.rules, path)[0] for path in paths], dtype=bool)
    return allow_mask(rules, pa.array(paths, type=pa.large_string()))


def allow_mask(rules: Ruleset, paths: pa.Array) -> npt.NDArray[np.bool_]:
    """Which of many paths a ruleset lets be fetched."""
    allows = np.array([r.allow for r in rules.rules] + [True], dtype=bool)  # the last stands for "no rule"
    return allows[match_many(rules.rules, paths)]
