"""How commands end that check files on their own."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from indrel.cli.console import say

if TYPE_CHECKING:
    from indrel.core.model import Finding, Skipped


def code_of(findings: Iterable[Finding], crashed: Iterable[Skipped], fail_on: str) -> int:
    """The exit code for what was found: 3 for a check that crashed (which is said), 1 from `fail_on` on, else 0."""
    from indrel.core.model import Severity

    code = 0
    if fail_on != "never":
        least = Severity[fail_on.upper()].value
        code = int(any(f.severity.value >= least and not f.accepted for f in findings))
    for one in crashed:
        say(f"indrel: the check {one.check} crashed ({one.because}), so its findings are missing")
        code = 3
    return code
