"""`indrel audit FOLDER` as a whole program: what one page costs, and each further page in multiples of its parse.

One page (the folder's first, alone in a folder) is held beside `python -c "import typer, duckdb"`; the further pages beside
one process that only reads and parses the same files. Five interleaved rounds, medians; CPU of all processes, and wall.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import time
from pathlib import Path
from statistics import median
from typing import NamedTuple

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "indrel")
PARSE_ONLY = """
import sys
from pathlib import Path
from selectolax.lexbor import LexborHTMLParser
for name in Path(sys.argv[1]).read_text().splitlines():
    LexborHTMLParser(Path(name).read_bytes())
"""
ROUNDS = 5


class Cost(NamedTuple):
    """Seconds of the processor, all processes of a command, and on the wall."""

    cpu: float
    wall: float


def timed(command: list[str]) -> Cost:
    began, before = time.perf_counter(), os.times()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    wall, after = time.perf_counter() - began, os.times()
    cpu = after.children_user + after.children_system - before.children_user - before.children_system
    return Cost(cpu, wall)


def middle(costs: list[Cost]) -> Cost:
    return Cost(median(c.cpu for c in costs), median(c.wall for c in costs))


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    files = sorted(
        os.path.join(r, n) for r, _, names in os.walk(folder) for n in names if n.endswith((".html", ".htm"))
    )
    with tempfile.TemporaryDirectory() as temporary:
        listing, single = Path(temporary, "files"), Path(temporary, "one")
        single.mkdir()
        shutil.copy(files[0], single / "index.html")
        listing.write_text("\n".join(files))
        where = ["--base", "https://docs.sarnfell.example/", "--snapshot", str(Path(temporary, "s.indrel")), "-q"]
        commands = {
            "bare": [sys.executable, "-c", "import typer, duckdb"],
            "nothing": [sys.executable, "-c", "import selectolax.lexbor"],
            "parse": [sys.executable, "-c", PARSE_ONLY, str(listing)],
            "one": [PROGRAM, "audit", str(single), *where],
            "all": [PROGRAM, "audit", str(folder), *where],
        }
        rounds = [{name: timed(command) for name, command in commands.items()} for _ in range(ROUNDS)]
    cost = {name: middle([one[name] for one in rounds]) for name in commands}
    further = len(files) - 1
    page = Cost(*((cost["all"][i] - cost["one"][i]) / further * 1000 for i in range(2)))
    parse = Cost(*((cost["parse"][i] - cost["nothing"][i]) / len(files) * 1000 for i in range(2)))
    octets = sum(os.path.getsize(f) for f in files)
    print(
        f"{len(files):,} pages, {octets / len(files) / 1000:.0f} KB each; all: {cost['all'].cpu:.1f} CPU s, {cost['all'].wall:.1f} s"
    )
    print(f"one page: {cost['one'].cpu:.2f} CPU s, {cost['one'].wall:.2f} s; bare imports {cost['bare'].cpu:.2f} CPU s: "
          f"{cost['one'].cpu / cost['bare'].cpu:.1f} times (goal: at most 2.7)")  # fmt: skip
    print(f"each further page: {page.cpu:.2f} ms of CPU, {page.wall:.2f} ms; its parse {parse.cpu:.2f} ms of CPU: "
          f"{page.cpu / parse.cpu:.1f} times (goal: at most 5)")  # fmt: skip


if __name__ == "__main__":
    main()
