"""Made-up addresses: what a host, and each of its large sections, answers where there is nothing."""

from __future__ import annotations

from collections.abc import Iterable

from indrel.core.address import Joiner, made_up_folder, made_up_path, normalise, origin_of, split
from indrel.core.page.headers import content_type, is_html
from indrel.core.page.html import read_page
from indrel.core.robots.access import MAX_HOPS
from indrel.gather.parsing import MAX_PAGE
from indrel.gather.recorder import Recorder
from indrel.sources.fetch import Fetcher
from indrel.sources.gate import Gate

MOST_FOLDERS = 8
"""Sections of which a URL that cannot exist is asked for."""

PAGES_OF_A_FOLDER = 8
"""Pages that a section has at least."""

FOLDERS = f"""SELECT regexp_extract(a.path, '^/([^/?]+)/', 1) AS folder FROM page p JOIN address a ON a.id = p.address
    JOIN answer n ON n.address = a.id WHERE a.origin = ? AND n.status = 200 AND folder <> '' GROUP BY folder
    HAVING count(*) >= {PAGES_OF_A_FOLDER} ORDER BY count(*) DESC, folder LIMIT {MOST_FOLDERS}"""


class MadeUp:
    """Asks for addresses that nobody has made, unless they are barred, and records what comes back."""

    def __init__(self, fetcher: Fetcher, gate: Gate, recorder: Recorder, joiner: Joiner) -> None:
        self.fetcher = fetcher
        self.gate = gate
        self.recorder = recorder
        self.joiner = joiner
        self.hashes: dict[str, int | None] = {}
        """By origin the text hash of the page that a URL that cannot exist gets there, if it gets one."""

    async def ask(self, origin: str, folder: str | None = None) -> None:
        """One URL that cannot exist of a host, or of one of its first folders."""
        name = made_up_path(split(origin + "/").host)
        path = name if folder is None else f"/{folder}{name}"
        if not self.gate.allows(origin, path):
            return
        url = origin + path
        answer = first = await self.fetcher.get(url, MAX_PAGE)
        for _ in range(MAX_HOPS):
            target = normalise(answer.header("location") or "", answer.url) if answer.redirects else None
            if not target or not self.recorder.on_site(target):
                break
            answer = await self.fetcher.get(target, MAX_PAGE)
        facts = None
        media, charset = content_type(answer.header("content-type"))
        if answer.status == 200 and is_html(media):
            facts = read_page(answer.body, answer.url, charset, self.joiner)
        self.recorder.writer.add(
            "probe",
            [
                (
                    origin, folder, url, first.status, answer.url, answer.status, facts.text_hash if facts else None,
                    facts.title if facts else None, facts.sketch if facts else None,
                )
            ],
        )  # fmt: skip
        if folder is None:
            self.hashes[origin] = facts.text_hash if facts else None

    async def ask_again(self, urls: Iterable[str]) -> set[str]:
        """Ask again for those of some addresses that were made up; gives the others."""
        others = set()
        for url in sorted(urls):
            folder = made_up_folder(url)
            if folder is None:
                others.add(url)
            else:
                await self.ask(origin_of(url), folder or None)
        return others

    async def ask_sections(self, origin: str) -> None:
        """One URL that cannot exist in each large section of a host: another program may answer there. Once for a snapshot."""
        self.recorder.commit(force=True)
        con = self.recorder.writer.con
        if con.execute("SELECT count(*) FROM probe WHERE folder IS NOT NULL").fetchall()[0][0]:
            return
        for (folder,) in con.execute(FOLDERS, [origin]).fetchall():
            await self.ask(origin, folder)
