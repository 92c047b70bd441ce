"""Checks: questions put to a `Site`, and the causes that their findings come from."""

from typing import TYPE_CHECKING, Any

from indrel.checks.catalogue import Check, checks
from indrel.checks.verdict_store import findings_of, verdict_of

if TYPE_CHECKING:
    from indrel.checks.run import judge

__all__ = ["Check", "checks", "findings_of", "judge", "verdict_of"]


def __getattr__(name: str) -> Any:
    """Who reads what is kept does not load what judges."""
    if name == "judge":
        from indrel.checks.run import judge

        return judge
    raise AttributeError(name)
