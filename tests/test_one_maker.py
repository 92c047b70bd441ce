"""Facts that have one maker: what two ways to ask for one thing say must be the same."""

from __future__ import annotations

import inspect
import json
import re
from dataclasses import fields
from pathlib import Path
from typing import Any, get_args, get_type_hints

import pytest
import typer

import indrel
from cases import BASE, HOST, html, robots, sitemap
from conftest import served
from indrel.cli.audit import audit
from indrel.core import crawlers
from indrel.core.sitemap import usual_folders
from indrel.decide.matrix import site_matrix
from indrel.decide.site import Site
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from indrel.snapshot import Snapshot
from indrel.sources.options import Gathering, GatherOptions
from test_archive import page, write
from test_program import Run, write_site


def test_every_interface_has_every_option(indrel: Run) -> None:
    """What a user can say of gathering is said once: on the command line, in Python and to the sources it has one name."""
    options = {name: get_args(hint)[1] for name, hint in get_type_hints(Gathering, include_extras=True).items()}
    known = {one.name: one for one in fields(GatherOptions)}
    own = {
        "crawlers",
        "hosts",
        "user_parts",
        "before",
        "only",
        "progress",
    }  # from the intent, and from the program itself
    assert set(options) == set(known) - own
    given = inspect.signature(audit).parameters
    assert set(options) <= set(given)
    shown = indrel("audit", "--help", code=0).stdout
    for name, option in options.items():
        flag = option.flags[0].partition("/")[0]
        assert re.search(rf"(^|[ ,]){flag}\b", shown, re.MULTILINE), flag
        written = get_args(given[name].annotation)[1]
        assert isinstance(written, type(typer.Option())) and len(option.help) <= 110


def test_the_library_takes_every_option(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    write_site(tmp_path / "b", {"index.html": html(), "a.html": html()})
    (tmp_path / "away").mkdir()
    (tmp_path / "away/c.html").write_text(html())
    (tmp_path / "b/more").symlink_to(tmp_path / "away")
    with indrel.audit(
        "b", base=HOST + "/", links_out=True, limit=9, per_pattern=5, render_memory=10**9, sandbox=True
    ) as found:
        assert {u.rpartition("/")[2] for u in found._site.snapshot.meta["hosts"]} == {HOST[8:]}
        assert found._site.one("SELECT count(*) FROM fact WHERE html") == 3
    wrong: dict[str, Any] = {"links_oot": True}
    with pytest.raises(TypeError, match="links_oot"):
        indrel.audit("b", **wrong)


def test_robots_is_told_alike_by_audit_and_check(indrel: Run) -> None:
    """503 with Retry-After: the pause that the host asks for is known to both."""
    pause = Response(b"", 503, headers=(("Retry-After", "3600"),))
    with DemoServer(site=served({"/robots.txt": pause, "/": html()})) as server:
        at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
        found = [
            json.loads(indrel(*words, at, "--json").stdout)["findings"]
            for words in (("audit", HOST + "/", "--rate=0"), ("robots", "check", f"{HOST}/robots.txt"))
        ]
    one, other = ([f for f in some if f["check"] == "robots-unreachable"] for some in found)
    assert one and other and [e["text"] for e in one[0]["evidence"]] == [e["text"] for e in other[0]["evidence"]]
    assert "3600" in one[0]["message"] and one[0]["message"] == other[0]["message"]


@pytest.mark.parametrize(
    "start", ["https://h.example/sub/", "https://h.example/sub/x.html?y=/z/", "https://h.example/"]
)
def test_sitemaps_are_looked_for_at_the_same_places(start: str) -> None:
    assert usual_folders(start) == ["https://h.example", "https://h.example/sub"][: 1 + ("sub" in start)]


@pytest.mark.filterwarnings("ignore:.*SpooledTemporaryFile")  # the writer's own
def test_an_archive_looks_where_a_site_does(indrel: Run, tmp_path: Path) -> None:
    """With a base below the root, the sitemap in its folder is found in an archive, a folder and a live site."""
    listed = f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>{HOST}/sub/</loc></url></urlset>'
    plain = [("Content-Type", "text/plain")]
    records: list[Any] = [
        ("/robots.txt", "200 OK", plain, robots().encode()), page("/sub/", html()),
        ("/sub/sitemap.xml", "200 OK", [("Content-Type", "application/xml")], listed.encode()),
    ]  # fmt: skip
    write(tmp_path / "x.warc.gz", records)
    write_site(tmp_path / "b", {"index.html": html(), "sitemap.xml": listed})
    with DemoServer(site=served({"/robots.txt": robots(), "/sub/": html(), "/sub/sitemap.xml": listed})) as server:
        at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
        for source in (
            (f"{HOST}/sub/", at, "--rate=0"),
            ("x.warc.gz", "--base", f"{HOST}/sub/"),
            ("b", "--base", f"{HOST}/sub/"),
        ):
            report = json.loads(indrel("audit", *source, "--json", "--fail-on=never", code=0).stdout)
            assert [s["url"] for s in report["sitemaps"]] == [f"{HOST}/sub/sitemap.xml"], source


def test_a_new_purpose_is_data_alone(audit_site: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """A crawler with a purpose that no code knows has its place in the matrix, after those that are known."""
    table = {**crawlers.table(), "rescuebot": crawlers.Crawler("RescueBot", "rescuebot", purpose="rescue")}
    monkeypatch.setattr("indrel.decide.matrix.table", lambda: table)
    path = audit_site({**BASE, "/sitemap.xml": sitemap("/")})[0].snapshot.path
    with Snapshot(path) as snapshot:
        purposes = [row.purpose for row in site_matrix(Site(snapshot, crawlers.resolve(["*"])))]
    ranked = list(dict.fromkeys(purposes))
    assert ranked[0] == "all others" and ranked.index("rescue") == len(ranked) - 1 - ("other" in ranked)
