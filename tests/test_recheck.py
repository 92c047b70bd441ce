"""Asking again for what was found: mended, still there, changed; nothing else is asked for."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, HOST, NOINDEX, a, canonical, html, moved, sitemap
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
            for x in ("--connect", f"{h}=http://127.0.0.1:{server.port}")
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
        assert re.match(r"www.sarnfell.example, [\d-]+ [\d:]+ UTC: Rechecked 1 URL: [12] findings? fixed, ", text), text
        assert (
            "Did you mean `listed-hidden`?" in indrel("recheck", "1.indrel", "--check", "listed-hiden", code=2).stderr
        )
        assert "`xyz`. All of them: indrel checks" in indrel("recheck", "1.indrel", "--check", "xyz", code=2).stderr
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
        assert "no URL could be read" in done.stderr
    write_site(tmp_path / "b", {"index.html": html(body=a("/gone"))})
    indrel("audit", "b", "--snapshot", "f.indrel", code=1)
    assert "audit it again" in indrel("recheck", "f.indrel", code=2).stderr


LISTED = {
    **BASE,
    "/sitemap.xml": sitemap("/", "/a"),
    "/": html(canonical("/"), a("/b")),
    "/a": html(canonical("/a")),
    "/b": html(canonical("/b")),
}
BEHIND = {
    **BASE,
    "/": html(canonical("/"), a("/p/a")),
    "/robots.txt": BASE["/robots.txt"] + "Disallow: /p/\n",
    "/p/a": moved("/b"),
    "/b": html(),
}
SHUT = {**BEHIND, "/sitemap.xml": sitemap("/", "/p/a"), "/p/a": html(NOINDEX)}
PAGE = Response(b"<title>Huts</title><p>All huts of the trust.</p>")


@pytest.mark.parametrize(
    ("check", "before", "missing", "after", "missing_after", "became", "because"),
    [
        ("robots-unreachable", {**BASE, "/robots.txt": Response(b"", 503)}, None, BASE, None, "mended", ""),
        ("missing-answers-200", BASE, PAGE, BASE, None, "mended", ""),
        ("missing-answers-200", BASE, PAGE, BASE, PAGE, "still", ""),
        ("missing-answers-200", BASE, PAGE, BASE, Response(b"", 503), "unknown", "503 Service Unavailable"),
        ("no-path", LISTED, None, LISTED, None, "unknown", "other pages may link to it now and were not read again: audit the site again"),
        ("barred-canonical", BEHIND, None, BEHIND, None, "still", ""),
        ("listed-barred", SHUT, None, {**SHUT, "/robots.txt": BASE["/robots.txt"]}, None, "mended", ""),
        ("listed-broken", {**SHUT, "/p/a": Response(b"", 500), "/robots.txt": BASE["/robots.txt"]}, None,
         {**SHUT, "/robots.txt": BASE["/robots.txt"]}, None, "mended", ""),
    ],
)  # fmt: skip
def test_what_became_of_a_finding(
    check: str, before: Any, missing: Response | None, after: Any, missing_after: Response | None, became: str, because: str,
    indrel: Run,
) -> None:  # fmt: skip
    """Each finding of the check is one thing only, and nothing is new where the site stayed as it was."""
    site = served(before, missing)
    with DemoServer(site=site) as server:
        rest = ["--rate", 0, "--timeout", 2, "--connect", f"{HOST[8:]}=http://127.0.0.1:{server.port}"]
        rest += ["--connect", f"{HOST[12:]}=http://127.0.0.1:{server.port}"]
        read = ["--read-barred"] if check == "barred-canonical" else []
        indrel("audit", HOST + "/", "--snapshot", "1.indrel", "--fail-on", "never", *read, *rest, code=None)
        later = served(after, missing_after)
        for kept, now in ((site.pages, later.pages), (site.missing, later.missing)):
            kept.clear()
            kept.update(now)  # type: ignore[arg-type]
        told = json.loads(
            indrel("recheck", "1.indrel", "--check", check, "--snapshot", "2.indrel", "--json", *rest, code=None).stdout
        )
    there = {name: [f for f in told[name] if f["check"] == check] for name in ("mended", "still", "unknown")}
    assert {name for name, found in there.items() if found} == {became}
    assert after is not before or not (told["changed"] or told["new"])
    assert not because or there["unknown"][0]["unknown_because"] == because
    assert (
        before.get("/p/a") is BEHIND["/p/a"]
        or "/p/a" not in before
        or "listed-hidden" in {f["check"] for f in told["new"]}
    )
