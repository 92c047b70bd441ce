"""A text file of URLs: each is read as given, nothing is followed."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from cases import HOST, NOINDEX, a, html, robots, sitemap
from conftest import lines_of, served
from indrel.demo.server import DemoServer
from test_program import Run

API = "https://api.sarnfell.example"
PAGES = {
    "/robots.txt": robots("Disallow: /shut", f"Sitemap: {HOST}/sitemap.xml"), "/sitemap.xml": sitemap("/", "/listed"),
    "/": html(body=a("/linked")), "/a": html(NOINDEX, a("/linked")), "/b": html(), f"{API}/robots.txt": robots(), f"{API}/c": html(),
}  # fmt: skip


def test_urls_are_read_as_given(indrel: Run, tmp_path: Path) -> None:
    """No home page, no sitemap and no link is requested; robots.txt of each host is, and is obeyed. It can be rechecked."""
    site, asked = served(PAGES), list[str]()
    answer = site.answer

    def watched(scheme: str, host: str, path: str) -> object:
        asked.append(f"{scheme}://{host}{path}")
        return answer(scheme, host, path)

    site.answer = watched  # type: ignore[method-assign,assignment]
    (tmp_path / "urls.txt").write_text(
        f"\ufeff# from the desk\n{HOST}/a\n\n{HOST}/b?x=1#top\n{HOST}/shut\n{API}/c\n{HOST}/a\n"
    )
    with DemoServer(site=site) as server:
        at = [f"--connect={h[8:]}=http://127.0.0.1:{server.port}" for h in (HOST, API)]
        done = indrel("audit", "urls.txt", "--rate=0", "--json", "--save=s.indrel", "--fail-on=never", *at, code=0)
        again = indrel("recheck", "s.indrel", "--rate=0", "--json", "--fail-on=never", *at, code=0)
    pages = {url for url in asked if "robots.txt" not in url and "indrel-no-such" not in url}
    assert pages == {f"{HOST}/a", f"{HOST}/b?x=1", f"{API}/c"} and f"{API}/robots.txt" in asked
    report = json.loads(done.stdout)
    assert report["source"]["kind"] == "urls" and report["source"]["location"] == "urls.txt" and report["complete"]
    rows = {row["url"]: row for row in lines_of(indrel("list", "s.indrel", "--json").stdout)}
    assert rows.pop(f"{HOST}/linked")["states"]["*"] == "unread"  # named by a page, and not followed
    assert {url: row["states"]["*"] for url, row in rows.items()} == {
        f"{HOST}/a": "hidden", f"{HOST}/b?x=1": "gone", f"{HOST}/shut": "barred", f"{API}/c": "open",
    }  # fmt: skip
    assert {row["want"]["value"] for row in rows.values()} == {"any"}  # to be in the list makes nothing wanted
    skipped = {one["check"] for one in report["skipped_checks"]}
    assert {"sitemap-none", "no-path", "only-nofollow-path"} <= skipped and not json.loads(again.stdout)["new"]


@pytest.mark.parametrize(
    ("text", "told"),
    [(f"{HOST}/a\nnonsense\n", "urls.txt:2: 'nonsense' is not an http(s) URL"), ("# nothing\n", "not a snapshot"),
     ("hello\n", "not a snapshot")],
)  # fmt: skip
def test_a_file_that_is_no_list(text: str, told: str, indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "urls.txt").write_text(text)
    assert told in indrel("audit", "urls.txt", code=2).stderr
