"""Looking at script-built pages with a browser, beside `chromium --headless --dump-dom` in a loop; memory of all its processes."""

from __future__ import annotations

import asyncio
import os
import resource
import shutil
import subprocess
import threading
import time
from pathlib import Path
from statistics import median

from indrel.demo.server import DemoServer
from indrel.demo.site import Response, Site
from indrel.gather.keeping import Answer
from indrel.sources.browser.answering import Wish
from indrel.sources.browser.launch import find
from indrel.sources.browser.tabs import Tabs

HOST = "www.sarnfell.example"
BUILT = b"""<!doctype html><title>Huts</title><div id=app></div><script src=/app.js></script>"""
SCRIPT = b"""fetch('/data.json').then((answer) => answer.json()).then((huts) => {
  document.getElementById('app').innerHTML = '<main><h1>Huts</h1>' +
    huts.map((hut) => `<p><a href="/huts/${hut}/">Hut ${hut}</a> sleeps ${hut % 9 + 4}, and has a stove.</p>`).join('') + '</main>'
})
"""
PLAIN, LOOKS, ROUNDS, TABS = 6, 80, 5, 4


class Answers:
    """Everything that the page asks for, from memory."""

    lacks = "is not there"

    async def barred(self, url: str) -> int:
        return 0

    async def get(self, wish: Wish) -> Answer:
        kind, body = ("text/javascript", SCRIPT) if wish.url.endswith(".js") else ("application/json", DATA)
        return Answer(wish.url, 200, headers={"content-type": [kind]}, body=body)


DATA = str(list(range(60))).encode()


def tree(root: int) -> set[int]:
    """A process and all that come of it."""
    parents = {}
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            parents[int(entry.name)] = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
        except OSError:
            continue
    found = {root}
    while more := {p for p, parent in parents.items() if parent in found} - found:
        found |= more
    return found - {root}


class Peak(threading.Thread):
    """The most memory (PSS, MiB) that all processes of the browser held together."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.most, self.ended = 0.0, False

    def run(self) -> None:
        while not self.ended:
            total = 0
            for process in tree(os.getpid()):
                try:
                    text = Path(f"/proc/{process}/smaps_rollup").read_text()
                    total += next(int(line.split()[1]) for line in text.splitlines() if line.startswith("Pss:"))
                except (OSError, StopIteration):
                    continue
            self.most = max(self.most, total / 1024)
            time.sleep(0.1)


def cpu() -> float:
    used = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    return sum(u.ru_utime + u.ru_stime for u in used)


def dump(browser: str, port: int) -> tuple[float, float]:
    began, before = time.monotonic(), cpu()
    for _ in range(PLAIN):
        done = subprocess.run(
            [browser, "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=5000",
             f"--host-resolver-rules=MAP {HOST} 127.0.0.1:{port}", "--dump-dom", f"http://{HOST}/"],
            capture_output=True, check=True,
        )  # fmt: skip
        assert b"Hut 59" in done.stdout, "the baseline rendered the page"
    return PLAIN / (time.monotonic() - began), (cpu() - before) / PLAIN


async def looks(browser: str) -> tuple[float, float]:
    url = f"https://{HOST}/"
    page = Answer(url, 200, headers={"content-type": ["text/html"]}, body=BUILT)
    began, before = time.monotonic(), cpu()
    async with Tabs(browser, Answers(), size=TABS) as tabs:
        found = await asyncio.gather(*(tabs.look(url, page, 1) for _ in range(LOOKS)))
        assert all(look.seen and len(look.seen["links"]) == 60 for look in found)
        ended = time.monotonic()
    return LOOKS / (ended - began), (cpu() - before) / LOOKS


def main() -> None:
    browser = find()
    plain = next(b for b in ("chromium", "chromium-headless-shell") if shutil.which(b))
    site = Site(pages={
        f"http://{HOST}/": Response(BUILT), f"http://{HOST}/app.js": Response(SCRIPT, media_type="text/javascript"),
        f"http://{HOST}/data.json": Response(DATA, media_type="application/json"),
    })  # fmt: skip
    ours, theirs = [], []
    peak = Peak()
    with DemoServer(site=site) as server:
        for number in range(ROUNDS):
            theirs.append(dump(plain, server.port))
            if not number:
                peak.start()
            ours.append(asyncio.run(looks(browser)))
            peak.ended = True
    rate, base = median(r for r, _ in ours), median(r for r, _ in theirs)
    print(f"{plain} --dump-dom: {base:.2f} pages a second, {median(c for _, c in theirs):.2f} CPU s a page")
    print(
        f"looks, {TABS} tabs: {rate:.1f} pages a second, {median(c for _, c in ours):.3f} CPU s a page, {peak.most:.0f} MiB (PSS)"
    )
    print(f"ratio: {rate / base:.1f} (goal: at least 6; memory under 450 MiB)")


if __name__ == "__main__":
    main()
