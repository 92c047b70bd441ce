"""Where facts come from: a live site, a folder of built pages, an archive. One `Source` each, and one table of them."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from indrel.gather.parsing import ParserPool
    from indrel.gather.recorder import Recorder
    from indrel.sources.options import GatherOptions


class Source(Protocol):
    """What was named, made ready to be read. Making one raises UsageError or InputError where it cannot be."""

    location: str
    """As it was named, without credentials."""

    base: str
    """The address that it stands for: a site's start page, where a folder will stand."""

    options: GatherOptions
    resumes: bool
    """Whether reading can go on where it was broken off."""

    @property
    def expected(self) -> int | None:
        """How many pages there are at most, if that is known before they are read."""

    def gather(self, recorder: Recorder, pool: ParserPool) -> str | None:
        """Read everything into the recorder; what keeps it from being complete, if anything does.

        Raises AuditCutShort or Interrupted after keeping what was gathered, InputError where there is nothing to read.
        """


_MODULES = {
    "site": ("live", "Live"),
    "folder": ("folder", "BuiltFolder"),
    "warc": ("archive", "Archive"),
    "urls": ("url_list", "UrlList"),
}


def opened(kind: str, named: str | Sequence[str], options: GatherOptions) -> Source:
    """The source of a kind; its module is imported now. Only archives can be several."""
    module, name = _MODULES[kind]
    found: Source = getattr(import_module(f"indrel.sources.{module}"), name)(named, options)
    return found
