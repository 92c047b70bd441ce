"""Times as snapshots write them: ISO 8601, UTC, whole seconds."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from functools import lru_cache


def now() -> str:
    """The time as snapshots write it."""
    return _second(int(time.time()))


@lru_cache(maxsize=4)
def _second(seconds: int) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
