"""robots.txt as RFC 9309 has it: read, choose a crawler's rules, decide addresses."""

from indrel.core.robots.access import Access, access_for
from indrel.core.robots.file import Group, Line, RobotsFile, Rule, Ruleset, SitemapLine, parse
from indrel.core.robots.match import Paths, decide, match_many

__all__ = [
    "Access",
    "Group",
    "Line",
    "Paths",
    "RobotsFile",
    "Rule",
    "Ruleset",
    "SitemapLine",
    "access_for",
    "decide",
    "match_many",
    "parse",
]
