"""Opening the snapshot of a command."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from indrel.cli.console import say

if TYPE_CHECKING:
    from indrel.decide.site import Site


def newest(about: str | None = None, quiet: bool = False) -> Path:
    """The newest snapshot in `indrel-runs/`, of the host of `about` if that is a full URL; says which, and what it passed over."""
    from indrel import pipeline
    from indrel.core.address import normalise, split

    host = split(about).host if about and "://" in about and normalise(about) else None
    found = pipeline.newest_snapshot(host=host)
    for note in found.passed_over:
        say(note)
    say(f"from {found.path}", quiet)
    return found.path


def require_read(site: Site) -> None:
    """Raise AuditCutShort for an audit that read no page of its site."""
    from indrel.base.errors import AuditCutShort

    if not site.read_a_page:
        raise AuditCutShort(
            f"{site.snapshot.path}: its audit read no page of the site, so it answers nothing; audit the site again"
        )


@contextmanager
def opened(
    path: Path | None,
    crawler: list[str] | None,
    quiet: bool = False,
    intent: Path | None = None,
    about: str | None = None,
    memory: str | None = None,
    must_have_read: bool = False,
) -> Iterator[Site]:
    """The named snapshot, or the newest in `indrel-runs/` (of the host of `about`, where that is an address in full),
    seen by the crawlers asked for."""
    from indrel import pipeline
    from indrel.cli.options import doubt_crawlers

    doubt_crawlers(crawler, quiet)
    path = path or newest(about, quiet)
    site = pipeline.open_site(path, crawler, pipeline.load_intent(intent), memory)
    try:
        if must_have_read:
            require_read(site)
        yield site
    finally:
        site.close()


OWN = "snapshot"
"""The word for the robots.txt of the audit in question."""


def robots_of(word: str, snapshot: Path | None, quiet: bool) -> str:
    """What is meant by a robots.txt on the command line: the word `snapshot` is the audit named, or the newest."""
    return str(snapshot or newest(quiet=quiet)) if word == OWN else word
