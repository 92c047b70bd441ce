"""`indrel audit FOLDER` as a whole program, beside two processes that only read and parse the same files."""

from __future__ import annotations

import os
import subprocess
import sys
import sysconfig
import tempfile
import time
from pathlib import Path
from statistics import median

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "indrel")
PARSE_ONLY = """
import sys
from multiprocessing import Process
from pathlib import Path
from selectolax.lexbor import LexborHTMLParser
def work(files):
    for name in files:
        LexborHTMLParser(Path(name).read_bytes())
if __name__ == "__main__":
    files = Path(sys.argv[1]).read_text().splitlines()
    both = [Process(target=work, args=(files[i::2],)) for i in range(2)]
    for one in both: one.start()
    for one in both: one.join()
"""


def timed(command: list[str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - began


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    files = [os.path.join(r, n) for r, _, names in os.walk(folder) for n in names if n.endswith((".html", ".htm"))]
    octets = sum(os.path.getsize(f) for f in files)
    with tempfile.TemporaryDirectory() as temporary:
        listing, snapshot = Path(temporary, "files"), Path(temporary, "s.indrel")
        listing.write_text("\n".join(files))
        baseline = [sys.executable, "-c", PARSE_ONLY, str(listing)]
        ours = [
            PROGRAM,
            "audit",
            str(folder),
            "--base",
            "https://docs.sarnfell.example/",
            "--snapshot",
            str(snapshot),
            "-q",
        ]
        pairs = [(timed(ours), timed(baseline)) for _ in range(5)]
    print(f"{len(files):,} pages, {octets / 1e6:.0f} MB")
    print(
        f"audit: {median(a for a, _ in pairs):.2f} s; parsing alone, two processes: {median(b for _, b in pairs):.2f} s"
    )
    print(f"ratio: {median(a / b for a, b in pairs):.2f} (goal: at most 1.5)")


if __name__ == "__main__":
    main()
