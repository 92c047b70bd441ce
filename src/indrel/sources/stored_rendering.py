"""The pages of a folder or an archive in a browser: all that they ask for comes from there."""

from __future__ import annotations

import asyncio
import mimetypes
from typing import TYPE_CHECKING

from indrel.core.address import origin_of
from indrel.gather.answers import Answer
from indrel.sources.browser.answering import MOST_OCTETS, Answers, Wish
from indrel.sources.gate import Gate
from indrel.sources.rendering import looking

if TYPE_CHECKING:
    from indrel.gather.recorder import Recorder
    from indrel.sources.archive import Archive
    from indrel.sources.folder import Folder
    from indrel.sources.options import GatherOptions

_TYPES = {".js": "text/javascript", ".mjs": "text/javascript", ".wasm": "application/wasm"}


class FolderAnswers:
    """Judges by the folder's own robots.txt; of other hosts nothing is known, and nothing is asked."""

    lacks = "is not in the folder"

    def __init__(self, folder: Folder) -> None:
        self._folder = folder
        self._gate = Gate(folder.options.crawlers)
        self._gate.learn(origin_of(folder.base), 200, 0, folder.robots_body)

    async def barred(self, url: str) -> int:
        return self._gate.barred(url)

    async def get(self, wish: Wish) -> Answer:
        if not wish.url.startswith(self._folder.base) or self._folder.leaves_out(wish.url):
            return Answer(wish.url, None)
        found = self._folder.file_of(wish.url)
        if found is None:
            return Answer(wish.url, 404, headers={"content-type": ["text/plain"]})
        kind = _TYPES.get(found.suffix.lower()) or mimetypes.guess_type(found.name)[0] or "application/octet-stream"
        try:
            with found.open("rb") as file:
                body = file.read(MOST_OCTETS)
        except OSError:
            return Answer(wish.url, 404, headers={"content-type": ["text/plain"]})
        return Answer(wish.url, 200, headers={"content-type": [kind]}, body=body, octets=len(body))


class ArchiveAnswers:
    """Judges by the robots.txt files that the archive has; what it has not is not known."""

    lacks = "is not in the archive"

    def __init__(self, archive: Archive) -> None:
        self._archive = archive
        self._gate = Gate(archive.options.crawlers)

    async def barred(self, url: str) -> int:
        origin = origin_of(url)
        if origin not in self._gate:
            hops, answer = self._archive.robots_of(
                origin, "site" if self._archive.recorder.on_site(url) else "resource"
            )
            self._gate.learn(origin, answer.status if answer else 404, len(hops), answer.body if answer else b"")
        return self._gate.barred(url)

    async def get(self, wish: Wish) -> Answer:
        found = self._archive.answer(wish.url, MOST_OCTETS, whole=True) if wish.method == "GET" else None
        return found or Answer(wish.url, None)


def render_folder(folder: Folder) -> None:
    """Look at the folder's pages; what only rendered pages link to is in the folder, or is not there."""
    _render(FolderAnswers(folder), folder.recorder, folder.options, folder.base)


def render_archive(archive: Archive) -> None:
    """Look at the archive's pages."""
    _render(ArchiveAnswers(archive), archive.recorder, archive.options, archive.base)


def _render(answers: Answers, recorder: Recorder, options: GatherOptions, start: str) -> None:
    async def run() -> None:
        async with looking(answers, recorder, options, start, lambda: False) as rendering:
            await rendering.round()

    asyncio.run(run())
