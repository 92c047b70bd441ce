"""What came back for one URL, from whichever source."""

from __future__ import annotations

from dataclasses import dataclass, field

from indrel.core.address import normalise
from indrel.core.answers import Failure


@dataclass
class Answer:
    """What came back for one address. `status` None: nothing did; `failure` is why, `error` says it."""

    url: str
    status: int | None
    error: str | None = None
    headers: dict[str, list[str]] = field(default_factory=dict)
    body: bytes = b""
    octets: int = 0
    cut: bool = False
    failure: Failure | None = None

    def header(self, name: str) -> str | None:
        values = self.headers.get(name)
        return values[0] if values else None

    @property
    def redirects(self) -> bool:
        return self.status in (301, 302, 303, 307, 308)

    @property
    def target(self) -> str | None:
        """Where it redirects to, if it does."""
        location = self.header("location") if self.redirects else None
        return normalise(location, self.url) if location is not None else None

    @property
    def pause(self) -> str | None:
        """What kept it from being had, beside the status: the failure, or the pause that the host asks for."""
        wait = self.header("retry-after") if self.status in (429, 503) else None
        return self.error or (
            f"and asks crawlers to come back after {wait[:40]}{' s' if wait.isdigit() else ''}" if wait else None
        )
