"""Opening the snapshot that a command means."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from indrel.cli.talk import say

if TYPE_CHECKING:
    from indrel.decide.site import Site


@contextmanager
def opened(
    path: Path | None,
    crawler: list[str] | None,
    quiet: bool = False,
    intent: Path | None = None,
    about: str | None = None,
    memory: str | None = None,
) -> Iterator[Site]:
    """The named snapshot, or the newest in `indrel-runs/` (of the host of `about`, where that is an address in full),
    seen by the crawlers asked for."""
    from indrel import pipeline
    from indrel.cli.options import doubt_crawlers

    doubt_crawlers(crawler, quiet)
    if path is None:
        path = pipeline.snapshot_for(about)
        say(f"from {path}", quiet)
    site = pipeline.open_site(path, crawler, pipeline.load_intent(intent), memory)
    try:
        yield site
    finally:
        site.close()
