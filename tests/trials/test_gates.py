"""Gates that must not pass: a baseline that is overwritten, another base, a rule that blocks all, pages that are gone."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from cases import BASE, HOST, NOINDEX, a, html, robots, sitemap
from conftest import lines_of, served
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from test_program import Run, write_site

NAMES = [f"/hut{n}.html" for n in range(6)]


def build(folder: Path, **instead: str) -> None:
    pages = {name[1:]: html() for name in NAMES}
    write_site(folder, {"index.html": html(body=a(*NAMES)), "sitemap.xml": sitemap("/", *NAMES), **pages, **instead})


def test_a_rolling_baseline_is_replaced_only_by_what_passes(indrel: Run, tmp_path: Path) -> None:
    rolling = ("audit", "b", "--base", HOST + "/", "--baseline", "main.indrel", "--save", "main.indrel")
    build(tmp_path / "b")
    indrel("audit", "b", "--base", HOST + "/", "--save", "main.indrel", "--fail-on=never", code=0)
    first = (tmp_path / "main.indrel").read_bytes()
    build(tmp_path / "b", **{"hut3.html": html(NOINDEX)})
    for _ in range(2):
        done = indrel(*rolling, code=1)
        assert "/hut3.html" in done.stdout and "main.indrel.part; main.indrel stays the baseline" in done.stderr
        assert (tmp_path / "main.indrel").read_bytes() == first
    build(tmp_path / "b", **{"hut7.html": html()})
    assert "snapshot saved: main.indrel\n" in indrel(*rolling, code=0).stderr
    assert not (tmp_path / "main.indrel.part").exists()
    assert f"{HOST}/hut7.html" in {r["url"] for r in lines_of(indrel("list", "main.indrel", "--json").stdout)}


def test_another_base_is_no_comparison(indrel: Run, tmp_path: Path) -> None:
    """Two builds of which each has a base of its own have no URL in common: nothing passes."""
    build(tmp_path / "b")
    indrel("audit", "b", "--base", HOST + "/", "--save", "old.indrel", "--fail-on=never", code=0)
    (tmp_path / "b/hut3.html").unlink()
    base = ("--base", "https://next.sarnfell.example/")
    done = indrel("audit", "b", *base, "--baseline", "old.indrel", "--save", "new.indrel", "--fail-on=never", code=3)
    assert "nothing was compared: no URL is in both audits" in done.stderr
    assert "no URL is in both audits" in indrel("compare", "old.indrel", "new.indrel", code=3).stderr


def served_twice(indrel: Run, before: dict[str, object], after: dict[str, object], *more: str) -> dict[str, object]:
    """The gate's JSON for a site that was one thing and is another."""
    found = ""
    for name, pages, gate in (("1", before, ()), ("2", after, ("--baseline", "1.indrel", *more))):
        with DemoServer(site=served(pages)) as server:
            at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
            done = indrel(
                "audit", HOST + "/", "--rate=0", "--json", f"--save={name}.indrel", "--fail-on=stop", at, *gate
            )
            found = done.stdout
    return json.loads(found) | {"code": done.returncode}


LIVE = {**BASE, "/": html(body=a(*NAMES)), **{name: html() for name in NAMES}, "/sitemap.xml": sitemap("/", *NAMES)}


@pytest.mark.parametrize("start", [html(body=a(*NAMES)), Response(b"", 503)], ids=["all well", "the home page fails"])
@pytest.mark.parametrize("more", [(), ("--limit=2",), ("--no-follow-links",)])
def test_a_rule_that_blocks_all_fails_the_gate(start: object, more: tuple[str, ...], indrel: Run) -> None:
    """Whatever else could not be read: the rule is known, and so is what it blocks."""
    plain = {name: page for name, page in LIVE.items() if name != "/sitemap.xml"}
    rules = {"/robots.txt": robots("Disallow: /"), "/": start}
    listed = {"/sitemap.xml": sitemap("/", *NAMES)}
    report = served_twice(indrel, {**plain, **listed}, {**rules}, *more)
    lost = {one["url"].removeprefix(HOST): one for one in report["baseline"]["lost"]}
    assert report["code"] == 1 and set(lost) >= set(NAMES)
    assert lost[NAMES[0]]["after"] == "barred" and lost[NAMES[0]]["evidence"]["text"] == "Disallow: /"


def test_a_busy_server_loses_no_page(indrel: Run, tmp_path: Path) -> None:
    """5xx is requested once more at the end; one that lasts, on a host that responds, is lost; a host that is down is unknown."""
    busy = dict.fromkeys(NAMES[:3], 2)  # so many times 502, as often as one request is tried

    class Busy(DemoServer):
        def __init__(self) -> None:
            site = served({**LIVE, NAMES[5]: Response(b"", 500)})
            answer = site.answer

            def now(scheme: str, host: str, path: str) -> Response:
                if busy.get(path, 0) > 0:
                    busy[path] -= 1
                    return Response(b"", 502)
                return answer(scheme, host, path)

            site.answer = now  # type: ignore[method-assign]
            super().__init__(0, site)

    with DemoServer(site=served(LIVE)) as server:
        at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
        indrel("audit", HOST + "/", "--rate=0", "--save=1.indrel", "--fail-on=never", at, code=0)
    words = ("audit", HOST + "/", "--rate=0", "--json", "--fail-on=stop", "--baseline=1.indrel")
    with Busy() as server:
        done = indrel(*words, f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}", code=1)
    report = json.loads(done.stdout)
    assert {one["url"] for one in report["baseline"]["lost"]} == {HOST + NAMES[5]}
    assert report["baseline"]["lost"][0]["after"] == "broken" and report["counts"]["states"]["*"]["open"] == 6
    down = {path: Response(b"", 503) for path in ("/", *NAMES)}
    report = served_twice(indrel, LIVE, {**BASE, **down})
    assert report["baseline"]["lost"] == [] and report["counts"]["states"]["*"]["broken"] == 7


INTENT = '[[want]]\nmatch = "/hut3*"\nwant = "hide"\n[[accept]]\ncheck = "noindex-wanted"\nbecause = "so it is"\n'


def test_what_a_change_accepts_is_named(indrel: Run, tmp_path: Path) -> None:
    """A change that breaks a page and says in the same breath that it is meant to: the first lines name the entries."""
    build(tmp_path / "b")
    indrel("audit", "b", "--base", HOST + "/", "--save", "old.indrel", "--fail-on=never", code=0)
    (tmp_path / "indrel.toml").write_text(INTENT)
    build(tmp_path / "b", **{"hut3.html": html(NOINDEX)})
    words = ("audit", "b", "--base", HOST + "/", "--baseline", "old.indrel")
    shown = " ".join(indrel(*words, "-o", "x.md").stdout.split()[:90])
    told = 'line 2 wants match = "/hut3*", want = "hide"; line 4 accepts noindex-wanted everywhere'
    assert "indrel.toml has entries that are new since the baseline" in shown and "accepts noindex-wanted" in shown
    assert any(told in note for note in json.loads(indrel(*words, "--json").stdout)["notes"])
    assert "accepts noindex-wanted" in (tmp_path / "x.md").read_text()[:1500]
