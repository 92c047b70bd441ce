"""robots.txt as RFC 9309 has it: read, choose a crawler's rules, decide addresses."""

from typing import TYPE_CHECKING, Any

from indrel.core.robots.access import Access, access_for
from indrel.core.robots.file import Group, Line, RobotsFile, Rule, Ruleset, SitemapLine, parse
from indrel.core.robots.host import Decision, HostRobots, Verdict
from indrel.core.robots.single import ALWAYS_ALLOWED, decide, matching

if TYPE_CHECKING:
    from indrel.core.robots.match import Paths, match_many

__all__ = [
    "ALWAYS_ALLOWED",
    "Access",
    "Decision",
    "Group",
    "HostRobots",
    "Line",
    "Paths",
    "RobotsFile",
    "Rule",
    "Ruleset",
    "SitemapLine",
    "Verdict",
    "access_for",
    "decide",
    "match_many",
    "matching",
    "parse",
]


def __getattr__(name: str) -> Any:
    """Matching whole columns needs the array libraries; who decides one address does not load them."""
    if name in ("Paths", "match_many"):
        from indrel.core.robots import match

        return getattr(match, name)
    raise AttributeError(name)
