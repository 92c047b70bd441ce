"""What holds for a host when its robots.txt was asked for: RFC 9309 section 2.3.1."""

from __future__ import annotations

from enum import StrEnum

MAX_HOPS = 5
"""Redirects to follow; RFC 9309 section 2.3.1.2 asks for at least five."""

UNREACHABLE_4XX = frozenset({429})
"""Engine practice: too many requests counts as a server error."""


class Access(StrEnum):
    """What the answer means."""

    RULES = "rules"
    ALL_ALLOWED = "unavailable"
    ALL_BARRED = "unreachable"


def access_for(status: int | None, hops: int = 0) -> Access:
    """What holds, from the last status (None: no answer) and the number of redirects followed.

    2xx: the rules. 4xx, more than five redirects, a redirect to nowhere: everything is allowed.
    5xx, 429 (engine practice) and no answer: everything is barred.
    """
    if status is None or status >= 500 or status in UNREACHABLE_4XX:
        return Access.ALL_BARRED
    if 200 <= status < 300 and hops <= MAX_HOPS:
        return Access.RULES
    return Access.ALL_ALLOWED
