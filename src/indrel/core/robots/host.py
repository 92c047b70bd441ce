"""What holds on one host: its robots.txt as it answered, and what that means for any address and crawler.

This is the one place where access, rules and the file's own address come together; anyone who has to decide
asks here. Whole columns go through `match_many`, rules by rules.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from indrel.base.plain import code
from indrel.core.robots.access import Access, access_for
from indrel.core.robots.file import RobotsFile, Rule, Ruleset, parse
from indrel.core.robots.single import ALWAYS_ALLOWED, decide, decide_by_letter, matching, parts_from_letter

if TYPE_CHECKING:
    from indrel.core.crawlers import Crawler

NO_RULES = Ruleset(None, ())


class Decision(NamedTuple):
    """Whether an address may be fetched, the rule that says so, and the rules that hold (None: none decides)."""

    allowed: bool
    rule: Rule | None = None
    rules: Ruleset | None = None


class Verdict(NamedTuple):
    """Access and rules of one host."""

    access: Access
    file: RobotsFile

    @classmethod
    def of(cls, status: int | None, hops: int, body: bytes, known: bool = True) -> Verdict:
        """What an answer to /robots.txt means; `known` false: it was never asked, so nothing is taken to be barred."""
        access = access_for(status, hops) if known else Access.ALL_ALLOWED
        return cls(access, parse(body if access is Access.RULES else b""))

    def ruleset(self, crawler: Crawler) -> Ruleset:
        """The rules that hold for a crawler; none where the host's access decides."""
        return self.file.ruleset(crawler.robots_tokens) if self.access is Access.RULES else NO_RULES

    def decide(self, path: str, crawler: Crawler, rules: Ruleset | None = None) -> Decision:
        """One address: its path and query, for one crawler; `rules` are the crawler's, if the caller has them."""
        if path == ALWAYS_ALLOWED or self.access is Access.ALL_ALLOWED:
            return Decision(True)
        if self.access is Access.ALL_BARRED:
            return Decision(False)
        rules = rules or self.ruleset(crawler)
        allowed, rule = decide(rules.rules, path)
        return Decision(allowed, rule, rules)

    def by_letter(self, path: str, crawler: Crawler) -> str | None:
        """What RFC 9309's letter makes of an address, in words, where that is not what engines do; None where it is."""
        if self.access is not Access.RULES or path == ALWAYS_ALLOWED:
            return None
        rules = self.ruleset(crawler).rules
        if not parts_from_letter(rules, path):
            return None
        allowed, rule = decide_by_letter(rules, path)
        if allowed is decide(rules, path)[0]:
            return None
        by = f" by {code(rule.text)} (line {rule.line})" if rule else ", as no rule matches"
        return (
            f"read to the letter (RFC 9309 section 2.2.2, reserved characters), it is {'allowed' if allowed else 'barred'}{by}; "
            "large engines compare as written"
        )

    def matching(self, path: str, crawler: Crawler) -> list[Rule]:
        """Every rule that matches an address, the deciding one first."""
        return matching(self.ruleset(crawler).rules, path) if path != ALWAYS_ALLOWED else []


class HostRobots(NamedTuple):
    """robots.txt of one origin, as it answered (`known` false: it was never asked)."""

    origin: str
    url: str
    known: bool
    status: int | None
    error: str | None
    media_type: str
    hops: tuple[str, ...]
    final: str
    body: bytes
    role: str
    where: str
    verdict: Verdict

    @property
    def access(self) -> Access:
        return self.verdict.access

    @property
    def file(self) -> RobotsFile:
        return self.verdict.file

    def ruleset(self, crawler: Crawler) -> Ruleset:
        return self.verdict.ruleset(crawler)

    @classmethod
    def answered(
        cls, origin: str, status: int | None, error: str | None, media: str | None, hops: Sequence[str], final: str | None,
        body: bytes | None, role: str, known: bool, file: str | None,
    ) -> HostRobots:  # fmt: skip
        """From a row of the snapshot's table."""
        return cls(
            origin, f"{origin}/robots.txt", known, status, error, media or "", tuple(hops), final or "", body or b"", role,
            file or final or f"{origin}/robots.txt", Verdict.of(status, len(hops), body or b"", known),
        )  # fmt: skip

    @classmethod
    def given(cls, origin: str, body: bytes, where: str) -> HostRobots:
        """A file that is to take the place of the one that answered."""
        url = f"{origin}/robots.txt"
        verdict = Verdict(Access.RULES, parse(body))
        return cls(origin, url, True, 200, None, "text/plain", (), url, body, "site", where, verdict)
