"""What decided the state of an address: the rows that deciding wrote, read for the caller."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from indrel.core.model import Evidence
from indrel.decide.site import Site


class Reason(NamedTuple):
    """One directive, rule or answer behind a state, for the crawlers of `mask`; `kind` is one of the schema's `REASONS`."""

    mask: int
    kind: str
    evidence: Evidence


def reasons(site: Site, ids: Iterable[int]) -> dict[int, list[Reason]]:
    """What decided the state of each address, in order; open and unrequested ones have none."""
    numbers = sorted(set(ids))
    found: dict[int, list[Reason]] = {}
    if not numbers:
        return found
    chosen = f"= {numbers[0]}" if len(numbers) == 1 else "IN (SELECT unnest(?::INTEGER[]))"
    for address, mask, kind, file, line, text in site.rows(
        f"SELECT address, mask, kind, file, line, text FROM reason WHERE address {chosen} ORDER BY address, rank",
        None if len(numbers) == 1 else [numbers],
    ):
        found.setdefault(address, []).append(Reason(mask, kind, Evidence(_shown(kind, line, text), file, line, text)))
    return found


def _shown(kind: str, line: int | None, text: str) -> str:
    """The kind of evidence that a reason is: an answer's headers and status have no lines."""
    if kind == "robots":
        return "robots" if line else "status"
    if kind == "redirect":
        return "tag" if line else "header"
    return "header" if kind == "canonical" and line is None else kind


def decides(found: Iterable[Reason], index: int) -> list[Evidence]:
    """What decided for one crawler, by its place among those asked about."""
    return [one.evidence for one in found if one.mask >> index & 1]
