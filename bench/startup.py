"""`indrel --help` as a whole process, beside `python -c "import typer"`."""

from __future__ import annotations

import compileall
import subprocess
import sys
import sysconfig
import time
from pathlib import Path
from statistics import median

import indrel

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "indrel")


def timed(command: list[str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - began


def main() -> None:
    compileall.compile_dir(Path(indrel.__file__).parent, quiet=1)  # as an installation does
    ours, theirs = [], []
    for _ in range(15):
        ours.append(timed([PROGRAM, "--help"]))
        theirs.append(timed([sys.executable, "-c", "import typer"]))
    print(f"indrel --help: {median(ours):.3f} s; import typer: {median(theirs):.3f} s")
    print(f"ratio: {median(ours) / median(theirs):.2f} (goal: at most 1.5)")


if __name__ == "__main__":
    main()
