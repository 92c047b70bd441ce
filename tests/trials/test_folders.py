"""Folders that strangers built: pipes, links that lead anywhere, names that are no text."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from cases import HOST, html
from conftest import lines_of
from test_program import write_site


def test_a_folder_of_odd_things(tmp_path: Path, indrel: Any) -> None:
    """Pipes never end, links may lead anywhere, names may be no text; a base may be another than was said."""
    names = ("index", "x/index", "a", "b", "c", "d")
    body = '<a href="/docs/leak.html">x</a><a href="/docs/out/far.html">x</a><a href="/docs/pipe.html">x</a>' + "".join(
        f'<a href="/docs/{n.removesuffix("index")}{"" if n.endswith("index") else ".html"}">x</a>' for n in names
    )
    write_site(tmp_path / "b", {f"{n}.html": html(body=body, title=n) for n in names})
    write_site(tmp_path, {"secret.html": html(title="elsewhere"), "more/far.html": html()})
    os.mkfifo(tmp_path / "b/pipe.html")
    (tmp_path / "b/leak.html").symlink_to(tmp_path / "secret.html")
    (tmp_path / "b/out").symlink_to(tmp_path / "more")
    (tmp_path / "b/round").symlink_to(tmp_path / "b")
    (tmp_path / "b/again.html").symlink_to(tmp_path / "b/a.html")
    Path(os.fsdecode(os.fsencode(tmp_path) + b"/b/\xff\xe9.html")).write_text(html())
    told = indrel("audit", "b", "--base", HOST + "/", "--snapshot", "a.indrel", "--all", code=1).stdout
    flat = " ".join(told.split())
    indrel("audit", "b", "--base", HOST + "/docs/", "--snapshot", "u.indrel", "--fail-on", "never", code=0)
    rows = lines_of(indrel("list", "--from", "u.indrel", "--state", "unread", "--json", code=0).stdout)
    assert {row["url"].removeprefix(HOST + "/docs/") for row in rows} == {"leak.html", "out/far.html", "pipe.html"}
    assert "2 skipped, such as leak.html: lead out of the folder (see --follow-symlinks)" in flat
    assert "1 skipped, such as pipe.html: is not a file" in flat and f"(use --base {HOST}/docs/)" in flat
    indrel(
        "audit", "b", "--base", HOST + "/docs/", "--links-out", "--snapshot", "b.indrel", "--fail-on", "never", code=0
    )
    rows = lines_of(indrel("list", "--from", "b.indrel", "--json", code=0).stdout)
    paths = {row["url"].removeprefix(HOST + "/docs/") for row in rows}
    assert {"%FF%E9.html", "leak.html", "out/far.html", "again.html", "x/"} <= paths and "round/a.html" not in paths
    assert {row["status"] for row in rows if "pipe" not in row["url"]} == {200}
    (tmp_path / "b/robots.txt").mkdir()
    indrel("audit", "b", "--base", HOST + "/docs/", "--fail-on", "never", code=0)
