"""A machine that fails: streams that are full, closed or left, few descriptors, folders that cannot be written."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from cases import HOST, NOINDEX, a, html, sitemap
from conftest import PROGRAM
from test_program import write_site

FULL = "indrel: standard output cannot be written: No space left on device; write to a file with -o, or make room"
# what is run in a shell, its exit code, what standard error must say
TABLE = [
    ("{p} audit b --base {h}/ --snapshot {s} --all | head -1; exit ${{PIPESTATUS[0]}}", 1, ""),
    ("{p} list --from {k} --json | head -1; exit ${{PIPESTATUS[0]}}", 0, ""),
    ("{p} list --from {k} > /dev/full", 2, FULL),
    ("{p} audit {k} --json > /dev/full", 2, FULL),
    ("{p} list --from {k} >&-", 0, ""),
    ("{p} audit {k} >&- 2>&-", 1, ""),
    ("{p} audit {k} > /dev/null 2> /dev/full", 1, ""),
    ("ulimit -n 24; {p} audit b --base {h}/ --snapshot {s}", 1, ""),
    ("ulimit -v 1500000; {p} audit b --base {h}/ --snapshot {s}", 1, ""),
    ("ulimit -v 250000; {p} audit {k}", 3, "there is too little memory"),
    ("{p} audit b --base {h}/ --snapshot {s} -o none/x.html", 2, "indrel: none/x.html: the folder none does not exist"),
    ("{p} audit b --base {h}/ --snapshot /proc/x.indrel", 2, "indrel: /proc/x.indrel cannot be written"),
    ("{p} report --from {k} -o {l}.html", 2, "cannot be written: File name too long"),
    ("{p} audit b --base {h}/ --snapshot {l}.indrel", 2, "File name too long"),
]


ABORTED = ("cannot allocate memory for thread-local data", "OpenBLAS error")
"""Where so little memory is left that a library below ends the process, no program can say anything: seen once in some tens."""


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    where = tmp_path_factory.mktemp("machine")
    write_site(
        where / "b", {"index.html": html(body=a("/a.html")), "a.html": html(NOINDEX), "sitemap.xml": sitemap("/a.html")}
    )
    subprocess.run(
        [PROGRAM, "audit", "b", "--base", HOST + "/", "--snapshot", "kept.indrel", "-q"], cwd=where, capture_output=True
    )
    return where


@pytest.mark.parametrize(("line", "code", "said"), TABLE, ids=[str(n) for n in range(len(TABLE))])
def test_a_failing_machine(line: str, code: int, said: str, folder: Path, tmp_path: Path) -> None:
    """One line says what is wrong, the exit code is right, the snapshot stands."""
    shell = line.format(p=PROGRAM, h=HOST, k="kept.indrel", s=tmp_path / "s.indrel", l="n" * 250)
    for _ in range(5):
        done = subprocess.run(
            ["bash", "-c", shell], cwd=folder, capture_output=True, text=True, timeout=60, env={**os.environ}
        )
        if not any(last in done.stderr for last in ABORTED):
            break
    assert done.returncode == code, done.stderr
    assert said in done.stderr and "Traceback" not in done.stderr and "unexpected" not in done.stderr
    assert (
        subprocess.run([PROGRAM, "list", "--from", "kept.indrel", "-q"], cwd=folder, capture_output=True).returncode
        == 0
    )
    assert not [p.name for p in folder.iterdir() if p.name.startswith(".")], "nothing half-written is left"


def test_audits_begun_together_each_get_a_file(tmp_path: Path) -> None:
    write_site(tmp_path / "b", {"index.html": html()})
    line = [PROGRAM, "audit", "b", "--base", HOST + "/", "-q", "--fail-on", "never"]
    begun = [subprocess.Popen(line, cwd=tmp_path, stdout=subprocess.DEVNULL) for _ in range(4)]
    assert [one.wait(60) for one in begun] == [0, 0, 0, 0]
    assert sorted(p.suffix for p in (tmp_path / "indrel-runs").iterdir()) == [".indrel"] * 4


def test_a_worker_may_take_memory_beyond_what_its_caller_has_reserved() -> None:
    """A caller's libraries may hold any amount of address space, which a forked worker begins with."""
    program = """import mmap, pathlib
from indrel.gather.parsing import MEMORY, PageTask, ParserPool
held = mmap.mmap(-1, 6 << 30, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS, prot=mmap.PROT_READ)
pool = ParserPool(1)
pool.parse([PageTask(0, "https://www.sarnfell.example/", b"<p>Twelve huts.")])
limits = pathlib.Path(f"/proc/{pool._all[0].process.pid}/limits").read_text()
print(int(limits.partition("Max address space")[2].split()[0]) > MEMORY + (6 << 30))
pool.close()"""
    python = [PROGRAM.parent / "python", "-c", program]
    assert subprocess.run(python, capture_output=True, text=True, timeout=60, check=True).stdout == "True\n"
