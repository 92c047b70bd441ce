"""Asking again for what was found: mended, still there, changed; nothing else is asked for."""

from __future__ import annotations

import json
import re
from pathlib import Path

from cases import BASE, HOST, NOINDEX, a, canonical, html, sitemap
from conftest import served
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from test_program import Run, write_site
from test_schemas import problems

LINKS = [f"/huts/{n}" for n in range(12)] + ["/tag/a", "/tag/b", "/c", "/gone", "/v"]
SITE = {
    **BASE,
    "/robots.txt": f"User-agent: *\nDisallow: no-slash/\nSitemap: {HOST}/sitemap.xml\n",
    "/": html(canonical("/"), a(*LINKS)),
    "/sitemap.xml": sitemap("/", "/tag/a", "/tag/b"),
    **{p: html(canonical(p), title=p) for p in LINKS[:12]},
    "/tag/a": html(NOINDEX),
    "/tag/b": html(NOINDEX),
    "/c": html('<meta name="robots" content="no-index">'),
    "/v": html('<link rel="canonical" href="http://www.sarnfell.example/v">'),
    "http://www.sarnfell.example/": html(),
    "http://www.sarnfell.example/robots.txt": "Disalow: /",
}


def test_recheck(indrel: Run, tmp_path: Path) -> None:
    site = served(SITE)
    with DemoServer(site=site) as server:
        connect = [
            x
            for h in ("www.sarnfell.example", "sarnfell.example")
            for x in ("--connect", f"{h}=127.0.0.1:{server.port}")
        ]
        indrel("audit", HOST + "/", "--rate", 0, "--snapshot", "1.indrel", *connect, code=1)
        fixed = served(
            {
                **SITE,
                "/tag/a": html(canonical("/tag/a")),
                "/c": html('<meta name="robots" content="nofolow">'),
                "/robots.txt": SITE["/robots.txt"] + "Disallow: /nowhere\n",
            }
        )
        site.pages.clear()
        site.pages.update(fixed.pages)
        asked: list[str] = []
        answer = site.answer
        site.answer = lambda scheme, host, path: (asked.append(path), answer(scheme, host, path))[1]  # type: ignore[method-assign]
        rest = ["--rate", 0, "--snapshot", "2.indrel", *connect]
        done = indrel(
            "recheck", "1.indrel", "--check", "listed-hidden", "--check", "robots-token-slip", "--json", *rest, code=1
        )
        told = json.loads(done.stdout)
        assert problems(told, "recheck") == []
        assert [(f["check"], f["url"]) for f in told["mended"]] == [("listed-hidden", HOST + "/tag/a")]
        assert [f["url"] for f in told["still"] if f["check"] == "listed-hidden"] == [HOST + "/tag/b"]
        assert (
            {f["check"] for f in told["new"]}
            <= {"empty-archive-open", "robots-rule-unused"}  # its variants' rules are read again too
            and not told["unknown"]
            and told["answered"] == 3
        )
        assert [c["after"]["evidence"][0]["text"] for c in told["changed"]] == [
            '<meta name="robots" content="nofolow">'
        ]
        assert set(asked) == {"/", "/robots.txt", "/sitemap.xml", "/tag/a", "/tag/b", "/c"}
        again = json.loads(indrel("audit", "2.indrel", "--json").stdout)
        assert again["complete"] and again["counts"]["addresses"] == 19
        assert {f["check"] for f in again["findings"]} >= {"listed-hidden", "link-to-gone", "robots-token-slip"}
        text = indrel("recheck", "1.indrel", "/tag/a", *rest).stdout
        assert re.match(r"www.sarnfell.example, [\d-]+ [\d:]+ UTC: [12] findings? mended, ", text), text
        assert "was probably meant" in indrel("recheck", "1.indrel", "--check", "listed-hiden", code=2).stderr
        assert "`xyz`: see `indrel checks`" in indrel("recheck", "1.indrel", "--check", "xyz", code=2).stderr
        indrel("recheck", "1.indrel", "--check", "canonical-host-variant", *rest, code=1)
        third = json.loads(indrel("audit", "2.indrel", "--json").stdout)["findings"]
        assert not [f for f in third if f["url"] == "http://www.sarnfell.example/robots.txt"], (
            "a variant is no host of its own"
        )
        for path in ("/tag/a", "/tag/b"):
            site.pages[HOST + path] = Response(b"", 503)
        done = indrel("recheck", "1.indrel", "--check", "listed-hidden", "--json", *rest, code=3)
        told = json.loads(done.stdout)
        assert not told["mended"] and {f["url"] for f in told["unknown"]} == {HOST + "/tag/a", HOST + "/tag/b"}
        assert {f["unknown_because"] for f in told["unknown"]} == {"503 Service Unavailable"} and told["answered"] == 0
        assert "none of the addresses could be read" in done.stderr
    write_site(tmp_path / "b", {"index.html": html(body=a("/gone"))})
    indrel("audit", "b", "--snapshot", "f.indrel", code=1)
    assert "audit it again" in indrel("recheck", "f.indrel", code=2).stderr
