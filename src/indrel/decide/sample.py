"""What a limited audit says of the pages that it did not read: shares of a sample spread over the sections."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

from indrel.decide.site import Site

LEAST = 50
"""Pages read from which on their shares say something of all."""

_Z = 1.96
"""The quantile of the normal distribution for an interval that holds the true share 19 times in 20."""


@dataclass(frozen=True)
class Share:
    """A share of all pages in sitemaps, from `read` of `pages` of them, and the interval that it probably lies in."""

    value: float
    low: float
    high: float
    read: int
    pages: int


def share_of(site: Site, condition: str) -> Share | None:
    """The share of the unblocked pages in sitemaps for which a condition over `fact` holds; None where all were read, or too few.

    Each section counts by its size, for small ones are read more than their share; sections without a page read are left out.
    """
    rows = site.rows(
        f"""SELECT count(*), count(*) FILTER (read), count(*) FILTER (read AND ({condition})) FROM fact
        WHERE site AND listed AND barred = 0 GROUP BY {site.sections.sql}"""
    )
    pages, read = (sum(row[n] for row in rows) for n in (0, 1))
    if read < LEAST or read >= pages:
        return None
    seen = [(size, of_it, hits / of_it) for size, of_it, hits in rows if of_it]
    whole = sum(size for size, _, _ in seen)
    value = sum(size / whole * part for size, _, part in seen)
    spread = sum((size / whole) ** 2 * part * (1 - part) / of_it * (1 - of_it / size) for size, of_it, part in seen)
    worth = value * (1 - value) / spread if spread else float(read)  # so many drawn from all would tell as much
    middle = (value + _Z**2 / (2 * worth)) / (1 + _Z**2 / worth)
    half = _Z * sqrt(value * (1 - value) / worth + (_Z / (2 * worth)) ** 2) / (1 + _Z**2 / worth)
    return Share(value, max(0.0, middle - half), min(1.0, middle + half), read, pages)
