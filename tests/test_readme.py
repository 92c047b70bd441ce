"""What README shows is what the program prints. `python tests/test_readme.py` writes the shown lines anew."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sysconfig
import tempfile
from pathlib import Path

README = Path(__file__).parents[1] / "README.md"
BLOCK = re.compile(r"^```console\n\$ (?P<command>.*)\n(?P<shown>(?s:.*?))^```$", re.M)
SHOWN = 16  # lines; the rest of a longer output is left out
LEFT_OUT = "..."
TIME = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d")


def printed(command: str, folder: Path) -> list[str]:
    """The lines that a command of README prints, run in `folder`. The gates among them end with 1."""
    name, *rest = shlex.split(command)
    program = Path(sysconfig.get_path("scripts")) / name
    done = subprocess.run(
        [program, *rest], cwd=folder, env={**os.environ, "COLUMNS": "100"}, capture_output=True, text=True
    )
    assert done.returncode in (0, 1), (command, done.stderr)
    return [line.rstrip() for line in done.stdout.splitlines()]


def examples(text: str) -> list[tuple[str, list[str]]]:
    return [(m["command"], m["shown"].splitlines()) for m in BLOCK.finditer(text)]


def test_readme_shows_what_the_program_prints(tmp_path: Path) -> None:
    found = examples(README.read_text("utf-8"))
    assert len(found) == 6 and found[0][0] == "indrel demo"
    for command, shown in found:
        whole = [TIME.sub("TIME", line) for line in printed(command, tmp_path)]
        expected = [TIME.sub("TIME", line) for line in shown]
        if expected[-1] == LEFT_OUT:
            expected.pop()
            whole = whole[: len(expected)]
        assert expected == whole, f"{command}: run `python tests/test_readme.py` if the new output is right"


def write() -> None:
    with tempfile.TemporaryDirectory() as folder:

        def block(match: re.Match[str]) -> str:
            lines = printed(match["command"], Path(folder))
            kept = lines if len(lines) <= SHOWN else [*lines[:SHOWN], LEFT_OUT]
            return "\n".join(["```console", f"$ {match['command']}", *kept, "```"])

        README.write_text(BLOCK.sub(block, README.read_text("utf-8")), "utf-8")


if __name__ == "__main__":
    write()
