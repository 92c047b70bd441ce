"""Which snapshot is meant where none is named: by when its audit began and by what it read, never by the file's date."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from cases import HOST, NOINDEX, a, html
from indrel.base.errors import SnapshotError
from indrel.snapshot import SnapshotWriter
from indrel.snapshot.selection import in_order, newest
from test_program import Run, write_site

DOWN = "http://nothing.sarnfell.test/"


def made(folder: Path, name: str, started: str, host: str = HOST, pages: int = 1, complete: bool = True) -> Path:
    folder.mkdir(exist_ok=True)
    with SnapshotWriter(folder / name) as writer:
        writer.set_meta(source={"kind": "site", "location": host + "/"}, base=host + "/", started=started, complete=complete,
                        hosts=[host.partition("//")[2]], crawlers=["*"])  # fmt: skip
        for n in range(pages):
            writer.add("address", [(n, host, f"/{n}" if n else "/", True)])
            writer.add("answer", [(n, 200, None, "text/html", None, None, 1, False, None, started, None)])
    return folder / name


def test_the_newest_is_the_audit_that_began_last(tmp_path: Path) -> None:
    """A copied, touched or renamed file is as old as its audit; one that read nothing is passed over and named."""
    runs = tmp_path / "runs"
    old = made(runs, "www.sarnfell.example-20261101T080000Z.indrel", "2026-11-01T08:00:00Z")
    new = made(runs, "www.sarnfell.example-20261102T080000Z.indrel", "2026-11-02T08:00:00Z", complete=False)
    os.utime(old)
    assert newest([runs]).path == new and [one.path for one in in_order([old, new])] == [new, old]
    empty = made(runs, "www.sarnfell.example-20261103T080000Z.indrel", "2026-11-03T08:00:00Z", pages=0)
    found = newest([runs])
    assert found.path == new and found.passed_over == (f"{empty} read no page and is not used; --from {empty} uses it",)
    assert newest([runs], whatever=True).path == empty
    own = made(runs, "before.indrel", "2026-11-05T08:00:00Z")
    assert newest([runs]).path == own and newest([runs], "sarnfell.example").path == own
    liar = made(runs, "www.sarnfell.example-20270101T080000Z.indrel", "2026-10-01T08:00:00Z")
    assert newest([runs]).path == own  # its name says otherwise than it does itself
    liar.unlink()
    other = made(runs, "hut.test-20261106T080000Z.indrel", "2026-11-06T08:00:00Z", "https://hut.test")
    assert newest([runs]).path == other and newest([runs], "www.sarnfell.example").path == own
    (runs / "zzz-20270101T080000Z.indrel").write_bytes(b"no snapshot")
    assert newest([runs]).path == other
    with pytest.raises(SnapshotError, match="no snapshot in"):
        newest([runs], "other.test")
    for path in (old, new, own, other):
        path.unlink()
    with pytest.raises(SnapshotError, match="read none"):
        newest([runs])


def test_forget_keeps_by_the_moment_of_the_audit(indrel: Run, tmp_path: Path) -> None:
    """After a cache was restored, or files were copied, dates say nothing: the newer audit stays, and the one that queries use."""
    runs = tmp_path / "indrel-runs"
    paths = [
        made(runs, f"www.sarnfell.example-202611{d:02}T080000Z.indrel", f"2026-11-{d:02}T08:00:00Z") for d in (1, 2, 3)
    ]
    os.utime(paths[0])
    empty = made(runs, "www.sarnfell.example-20261104T080000Z.indrel", "2026-11-04T08:00:00Z", pages=0)
    indrel("forget", "--keep", 2, "--yes", code=0)
    assert sorted(runs.glob("*.indrel")) == [paths[2], empty]
    indrel("forget", "--keep", 1, "--yes", code=0)
    assert sorted(runs.glob("*.indrel")) == [paths[2], empty]
    shutil.copy(paths[2], runs / "www.sarnfell.example-20261103T090000Z.indrel")
    assert indrel("forget", "--older-than", "1d", "--yes", code=0).stdout


def test_an_audit_that_read_nothing_is_no_answer(indrel: Run, tmp_path: Path) -> None:
    """After an audit of a host that is not there, queries use the audit before; asked for by name, they do not answer."""
    write_site(
        tmp_path / "b",
        {"index.html": html(body=a("/x.html")), "x.html": html(NOINDEX), "robots.txt": "User-agent: *\n"},
    )
    write_site(tmp_path, {"new.txt": "User-agent: *\nDisallow: /\n"})
    indrel("audit", "b", "--base", DOWN, "--fail-on=never", code=0)
    (good,) = (tmp_path / "indrel-runs").glob("*.indrel")
    indrel("audit", DOWN, "--rate=0", "--timeout=2", code=3)
    (bad,) = set((tmp_path / "indrel-runs").glob("*.indrel")) - {good}
    for words in (
        ("explain", "/x.html"),
        ("robots", "impact", "snapshot", "new.txt"),
        ("draft", "tickets", "-o", "t"),
        ("list",),
    ):
        done = indrel(*words)
        assert done.returncode in (0, 1) and f"from indrel-runs/{good.name}" in done.stderr
        assert f"indrel-runs/{bad.name} read no page and is not used" in done.stderr
    assert len(list((tmp_path / "t").glob("*.md"))) > 0
    for words in (("robots", "impact", bad, "new.txt"), ("draft", "tickets", bad, "-o", "u"), ("draft", "sitemap", bad, "-o", "s.xml"),
                  ("draft", "robots", bad), ("audit", "b", "--base", DOWN, "--baseline", bad)):  # fmt: skip
        assert "read no page" in indrel(*words, code=3).stderr, words
    assert not (tmp_path / "u").exists()


def test_an_incomplete_audit_says_so_first(indrel: Run, tmp_path: Path) -> None:
    write_site(tmp_path / "b", {f"{n}.html": html() for n in range(4)})
    indrel("audit", "b", "--base", HOST + "/", "--limit", 2, "--save", "s.indrel", "--fail-on=never", code=0)
    told = " UTC, incomplete: --limit 2 was reached"
    for words in (("list", "s.indrel"), ("explain", "/0.html", "--from", "s.indrel")):
        assert told in indrel(*words).stdout.splitlines()[0]
