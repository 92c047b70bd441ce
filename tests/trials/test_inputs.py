"""Files made to be slow or huge: each is read in little memory, or refused in a line that says why."""

from __future__ import annotations

import gzip
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import openpyxl
import pytest

from cases import HOST, XMLNS, html
from conftest import PROGRAM
from test_program import Run, write_site


def long_line(path: Path) -> None:
    with gzip.open(path, "wb", 1) as file:
        for _ in range(80):
            file.write(b"a," * (1 << 19))


def bomb(path: Path) -> None:
    book = openpyxl.Workbook(write_only=True)
    book.create_sheet().append(["URL", f"{HOST}/"])
    book.save(path.with_suffix(".tmp"))
    row = b'<row><c t="inlineStr"><is><t>' + b"a" * 400 + b"</t></is></c></row>"
    with (
        zipfile.ZipFile(path.with_suffix(".tmp")) as plain,
        zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as packed,
    ):
        for name in plain.namelist():
            octets = plain.read(name)
            if name.endswith("sheet1.xml"):
                octets = octets.replace(b"</sheetData>", row * 800_000 + b"</sheetData>")
            packed.writestr(name, octets)


def text(content: str) -> Callable[[Path], None]:
    def make(path: Path) -> None:
        path.write_text(content)

    return make


def xml(inner: str, attribute: str = "") -> Callable[[Path], None]:
    return text(f"<urlset {XMLNS}{attribute}>{inner}<url><loc>{HOST}/</loc></url></urlset>")


EQUAL = "User-agent: *\n" + "Disallow: /a/\n" * 30_000
STARS = "User-agent: *\n" + "".join(f"Disallow: /*a{n}*b*c{n}*d\n" for n in range(1_990))
WANTS = "".join(f'[[want]]\nmatch = "/huts/x{n}*"\nwant = "hide"\n' for n in range(5_000))
VISITS = "".join(
    f'66.0.0.1 - - [01/Nov/2026:00:00:00 +0000] "GET /huts/{n}?p={n} HTTP/1.1" 200 5 "-" "Googlebot/2.1"\n'
    for n in range(300_000)
)
MOST_MEMORY = 300
"""MiB that any of them may take."""

MEASURE = """import resource, subprocess, sys
code = subprocess.run(sys.argv[1:]).returncode
print("peak", resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10, file=sys.stderr)
sys.exit(code)"""
"""Runs a program from a small process: one that is started from a large one counts as large itself."""

TABLE: list[tuple[str, Callable[[Path], None], list[str], int, str]] = [
    ("line.csv.gz", long_line, ["reconcile", "s.indrel"], 2, "line.csv.gz:1: a line of more than 1,048,576 characters"),
    ("bomb.xlsx", bomb, ["reconcile", "s.indrel"], 2, "more than a table of URLs needs"),
    ("many.toml", text(WANTS), ["audit", "s.indrel", "--intent"], 0, "The only wanted page can be indexed"),
    ("visits.log", text(VISITS), ["reconcile", "s.indrel"], 0, "300,000"),
    ("equal.txt", text(EQUAL), ["robots", "check"], 0, "and 29,998 more lines like it"),
    ("equal.txt", text(EQUAL), ["robots", "matrix"], 0, "53 a part"),
    ("stars.txt", text(STARS), ["robots", "check"], 0, "(1,990 rules in 1 group)"),
    (
        "tag.xml",
        xml("", f' x="{"a" * (9 << 20)}"'),
        ["sitemap", "check"],
        1,
        "a tag or comment of more than 1,048,576 bytes",
    ),
    (
        "note.xml",
        xml(f"<!--{'a' * (9 << 20)}-->"),
        ["sitemap", "check"],
        1,
        "a tag or comment of more than 1,048,576 bytes",
    ),
    ("loc.xml", xml(f"<url><loc>{HOST}/{'a' * (9 << 20)}</loc></url>"), ["sitemap", "check"], 1, "2 entries"),
    (
        "entity.xml",
        text(f'<!DOCTYPE x [<!ENTITY a "b">]><urlset {XMLNS}>&a;</urlset>'),
        ["sitemap", "check"],
        1,
        "cannot be read",
    ),
]


@pytest.mark.parametrize(("name", "make", "command", "code", "said"), TABLE, ids=[f"{r[0]}-{r[2][1]}" for r in TABLE])
def test_slow_and_huge(
    name: str, make: Callable[[Path], None], command: list[str], code: int, said: str, indrel: Run, tmp_path: Path
) -> None:
    make(tmp_path / name)
    if "s.indrel" in command:
        write_site(tmp_path / "b", {"index.html": html()})
        indrel("audit", "b", "--base", HOST + "/", "--snapshot", "s.indrel", "--fail-on", "never", code=0)
    done = subprocess.run(
        [sys.executable, "-c", MEASURE, PROGRAM, *command, name],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=120,
    )
    text, _, peak = (done.stdout + done.stderr).rpartition("peak ")
    assert done.returncode == code and said in " ".join(text.split())
    print(f"{name}: {int(peak)} MiB")
    assert int(peak) < MOST_MEMORY
