"""Checks: questions put to a `Site`, and the causes that their findings come from."""

from indrel.checks.catalogue import Check, checks
from indrel.checks.run import judge

__all__ = ["Check", "checks", "judge"]
