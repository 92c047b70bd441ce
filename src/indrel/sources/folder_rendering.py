"""A folder's pages in a browser: all that they ask for comes from the folder."""

from __future__ import annotations

import asyncio
import mimetypes
from typing import TYPE_CHECKING

from indrel.core.address import origin_of
from indrel.gather.keeping import Answer
from indrel.sources.browser.answering import ELSEWHERE, MOST_OCTETS, Wish
from indrel.sources.browser.launch import find
from indrel.sources.browser.tabs import Tabs
from indrel.sources.gate import Gate
from indrel.sources.rendering import Rendering

if TYPE_CHECKING:
    from indrel.sources.folder import Folder

_TYPES = {".js": "text/javascript", ".mjs": "text/javascript", ".wasm": "application/wasm"}


class FolderAnswers:
    """Judges by the folder's own robots.txt; of other hosts nothing is known, and nothing is asked."""

    def __init__(self, folder: Folder) -> None:
        self._folder = folder
        self._gate = Gate(folder.options.crawlers)
        self._gate.learn(origin_of(folder.base), 200, 0, folder.robots_body)

    async def barred(self, url: str) -> int:
        return self._gate.barred(url)

    async def get(self, wish: Wish) -> Answer:
        if not wish.url.startswith(self._folder.base) or self._folder.leaves_out(wish.url):
            return Answer(wish.url, None, ELSEWHERE)
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


def render_folder(folder: Folder) -> None:
    """Look at the folder's pages; what only rendered pages link to is in the folder, or is not there."""

    async def run() -> None:
        answers = FolderAnswers(folder)
        async with Tabs(find(folder.options.browser), answers, folder.options.sandbox) as tabs:
            rendering = Rendering(tabs, answers, folder.recorder, folder.options, folder.base, folder.options.stop)
            await rendering.round()
            rendering.finish()

    asyncio.run(run())
