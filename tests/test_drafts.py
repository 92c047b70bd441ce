"""Drafts: nothing wanted is ever barred or left out, what they were to mend is mended, servers take the headers."""

from __future__ import annotations

import csv
import gzip
import io
import json
import re
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from cases import BASE, HOST, NOINDEX, a, canonical, html, robots, sitemap
from conftest import AuditSite, served
from indrel.ask.drafts import headers
from indrel.ask.drafts import robots as robots_draft
from indrel.ask.drafts import sitemap as sitemap_draft
from indrel.base.errors import IndrelError
from indrel.checks import checks
from indrel.core.crawlers import resolve
from indrel.core.intent import parse_intent
from indrel.core.model import CheckClass, Evidence, Finding, Severity
from indrel.core.robots import decide, parse
from indrel.decide.site import Site
from indrel.demo.page import Response
from indrel.demo.server import DemoServer
from indrel.demo.site import build, intent_text
from indrel.snapshot import Snapshot, SnapshotWriter
from test_program import Run, write_site

PATHS = ("/", "/a", "/a/b", "/a/bc", "/a/c?x=1", "/ab", "/b/", "/b/c", "/c$d", "/c*e", "/%C3%BC/")
_rule = st.tuples(
    st.sampled_from(["Disallow", "Allow"]),
    st.sampled_from(["/", "/a", "/a/", "/a/b$", "/*c", "/b", "/a*", "/%C3%BC", "/c%24"]),
)
_groups = st.lists(
    st.tuples(st.sampled_from(["*", "Bingbot", "Googlebot"]), st.lists(_rule, max_size=4)), min_size=1, max_size=3
)
_wants = st.lists(
    st.tuples(st.sampled_from(["/*", "/a*", "/b/*", "/a/b", "/c*"]), st.sampled_from(["show", "hide", "any", "drop"])),
    max_size=3,
)


@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(_groups, _wants, st.sets(st.sampled_from(PATHS)))
@example([("*", [("Disallow", "/"), ("Disallow", "/*c")])], [], {"/a/b"})
@example([("*", [("Disallow", "/a/b$")]), ("Bingbot", [("Disallow", "/")])], [], {"/a/b"})
def test_no_draft_bars_what_is_wanted(
    tmp_path_factory: pytest.TempPathFactory, groups: Any, wants: Any, told: set[str]
) -> None:
    """Held against a second reading: each wanted path decided one by one, no path shut that was open."""
    body = "".join(
        f"User-agent: {agent}\n" + "".join(f"{f}: {p}\n" for f, p in rules) for agent, rules in groups
    ).encode()
    intent = parse_intent("".join(f'[[want]]\nmatch = "{m}"\nwant = "{w}"\n' for m, w in wants), "w")
    path = tmp_path_factory.mktemp("d") / "s.indrel"
    with SnapshotWriter(path) as writer:
        writer.set_meta(
            source={"kind": "site", "location": HOST},
            base=HOST + "/",
            started="2026-11-23T08:00:00Z",
            complete=True,
            hosts=[],
        )
        row = (HOST, 200, None, "text/plain", [], HOST + "/robots.txt", body, False, "site", True, None)
        writer.add("robots", [row])
        for number, one in enumerate(PATHS):
            writer.add("address", [(number, HOST, one, True)])
            writer.add("given", [(number, "also")])
            writer.add("answer", [(number, 200, None, "text/html", None, None, 9, False, None, "", None)])
            if one in told:
                writer.add(
                    "directive", [(number, 1, "", True, False, ["noindex"], [], [], None, None, False, None, "n")]
                )
    crawlers = resolve(("googlebot", "bingbot", "*"))
    site = Site(Snapshot(path), crawlers, intent=intent)
    try:
        draft = robots_draft.draft(site).body
        wanted = [p for (p,) in site.rows("SELECT path FROM fact WHERE want = 'show'")]
        listed = sitemap_draft.draft(site)
        open_now = {p for (p,) in site.rows(f"SELECT path FROM fact WHERE want = 'show' AND open = {site.all_mask}")}
    except IndrelError as error:
        pytest.fail(f"no draft: {error}")
    finally:
        site.close()
    for crawler in crawlers:
        before, after = (parse(b).ruleset(crawler.robots_tokens).rules for b in (body, draft))
        assert all(decide(after, p)[0] for p in wanted)
        opened = {p for p in PATHS if decide(after, p)[0] and not decide(before, p)[0]}
        assert opened <= {*wanted, *told}, "opened beyond the wish"
        assert all(decide(after, p)[0] for p in PATHS if decide(before, p)[0])
    text = b"".join(listed.files.values()).decode()
    found = {u.replace("&amp;", "&").removeprefix(HOST) for u in re.findall("<loc>(.*?)</loc>", text)}
    assert found >= open_now and (found == open_now or listed.implied)


OWN = f"Sitemap: {HOST}/sitemap.xml"


def test_robots_keeps_comments_and_order(audit_site: AuditSite, indrel: Run, tmp_path: Path) -> None:
    pages = {
        **BASE,
        "/robots.txt": robots(
            "# the shop", "Disallow: /news  # old", "Disallow: /cart", OWN, "Sitemap: https://other.test/s.xml"
        ),
        "/": html(canonical("/"), a("/newsletter", "/news/1", "/cart")),
        "/sitemap.xml": sitemap("/", "/newsletter"),
        "/newsletter": html(canonical("/newsletter")),
    }
    site, _ = audit_site(pages)
    found = robots_draft.draft(site)
    assert found.body.decode().splitlines() == [
        "User-agent: *", "# the shop", "Disallow: /news  # old", "Allow: /newsletter", "Disallow: /cart", OWN,
    ]  # fmt: skip
    assert [line for line in found.difference if line[:1] in "+-"][2:] == [
        "+Allow: /newsletter",
        "-Sitemap: https://other.test/s.xml",
    ]
    done = indrel("draft", "robots", site.snapshot.path, "-o", "new/robots.txt", code=0)
    assert (tmp_path / "new/robots.txt").read_bytes() == found.body and "1 more URL can be fetched" in done.stdout


def test_where_nothing_says_what_is_wanted_each_content_is_listed_once(audit_site: AuditSite) -> None:
    """Nor are exports of a list, one for each order, put forward; the first line says that something was not read."""
    prose = "<p>The stove burns wood that walkers carry up, and water comes from the beck below the door.</p>"
    csv, same = Response(b"bed,night", media_type="text/csv"), html(body=prose, title="A")
    pages = {
        "/": html(canonical("/"), a("/a", "/a?tab=notes", "/beds.csv", "/beds.csv?sort=bed", "/c")), "/a": same, "/a?tab=notes": same,
        "/beds.csv": csv, "/beds.csv?sort=bed": csv, "/c": html(body=prose.upper() + prose, title="C"),
    }  # fmt: skip
    site, verdict = audit_site(pages)
    found = sitemap_draft.draft(site)
    assert re.findall("example(/.*?)</loc>", found.files["sitemap.xml"].decode()) == ["/", "/a", "/beds.csv", "/c"]
    assert found.left_out["with the same content as another URL"] == [HOST + "/a?tab=notes"]
    assert "not complete" not in verdict.headline.sentence
    assert " UTC, incomplete: --limit 2 was reached: " in audit_site(pages, limit=2)[1].headline.sentence


def test_sitemap_holds_only_what_is_open_and_final(audit_site: AuditSite, indrel: Run, tmp_path: Path) -> None:
    links = ["/a", "/b/1", "/b/2", "/hidden", "/gone", "/moved"]
    dated = '<script type="application/ld+json">{"@type": "Article", "dateModified": "2026-10-01"}</script>'
    pages = {**BASE, "/": html(canonical("/"), a(*links)), "/sitemap.xml": sitemap("/", *links)}
    pages |= {p: html(canonical(p) + dated) for p in links[:3]} | {
        "/hidden": html(NOINDEX),
        "/moved": Response(b"", 301, headers=(("Location", "/a"),)),
    }
    site, _ = audit_site(pages)
    found = sitemap_draft.draft(site)
    assert re.findall("<loc>(.*?)</loc>", found.files["sitemap.xml"].decode()) == [
        HOST + p for p in ("/", "/a", "/b/1", "/b/2")
    ]
    assert (found.entries, found.dated) == (4, 3) and b"<lastmod>2026-10-01</lastmod>" in found.files["sitemap.xml"]
    assert {k: len(v) for k, v in found.left_out.items()} == {
        "hidden": 1,
        "gone": 1,
        "folded": 1,
    }
    split = sitemap_draft.draft(site, gzip=True, split=True)
    assert sorted(split.files) == ["sitemap-b.xml.gz", "sitemap-pages-1.xml.gz", "sitemap-pages.xml.gz", "sitemap.xml"]
    done = indrel("draft", "sitemap", site.snapshot.path, "-o", "out", code=0)
    indrel("draft", "sitemap", site.snapshot.path, "-o", "new/map.xml", "--gzip", code=0)
    assert gzip.decompress((tmp_path / "new/map.xml.gz").read_bytes()) == (tmp_path / "out/sitemap.xml").read_bytes()
    assert "name a folder" in indrel("draft", "sitemap", site.snapshot.path, "-o", "map.xml", "--split", code=2).stderr
    assert "4 URLs in out/sitemap.xml; 3 with a date" in done.stdout and "1 hidden: " in done.stdout
    assert indrel("sitemap", "check", tmp_path / "out/sitemap.xml", "--from", site.snapshot.path, code=0)


MENDED = {"barred-noindex", "listed-hidden", "listed-barred", "listed-redirects", "listed-gone", "listed-broken",
          "listed-locked", "listed-unwanted", "robots-overreach", "robots-foreign-sitemap", "sitemap-is-page",
          "sitemap-unreadable", "open-unwanted-stated", "file-needs-header"}  # fmt: skip


def test_round_trip_on_the_demo(audit_site: AuditSite) -> None:
    """The demonstration site served with the drafts: what they were to mend is gone, what is new was underneath."""
    pages = {url: answer for url, answer in build().pages.items() if url.startswith(HOST + "/")}
    options: dict[str, Any] = {"intent": intent_text(), "read_barred": True}
    site, before = audit_site(pages, **options)
    drafted = robots_draft.draft(site)
    maps, sent = sitemap_draft.draft(site), headers.draft(site)
    hide = [re.compile(pattern) for pattern, _, _ in sent.patterns]
    served = {u: r for u, r in pages.items() if "/sitemap" not in u}
    for url, answer in served.items():
        if any(p.search(url.removeprefix(HOST)) for p in hide):
            served[url] = Response(
                answer.body, answer.status, answer.media_type, (*answer.headers, ("X-Robots-Tag", "noindex"))
            )
    served[HOST + "/robots.txt"] = Response(drafted.body, media_type="text/plain")
    served |= {f"{HOST}/{name}": Response(octets, media_type="application/xml") for name, octets in maps.files.items()}
    after = audit_site(served, **options)[1]
    old, new = ({(f.check, f.url) for f in v.findings} for v in (before, after))
    assert {c for c, _ in old} >= MENDED - {"open-unwanted-stated"} and not {c for c, _ in new} & MENDED
    assert ("open-unwanted", HOST + "/rota/december/") in old - new
    underneath = {("canonical-to-hidden", HOST + "/legal/rota/"), ("noindex-wanted", HOST + "/bookings/over-sarn/"),
                  ("noindex-wanted", HOST + "/tag/history/"),
                  # what followed from an entry of the sitemap that is gone now
                  ("canonical-to-hidden", HOST + "/hut-book/print/"), ("link-to-gone", HOST + "/weather/live")}  # fmt: skip
    assert new - old == underneath


HEADERS_INTENT = """
[[want]]
match = "/rota/*"
want = "hide"
[[want]]
match = "/rota/public*"
want = "show"
[[want]]
match = "/x?print=*"
want = "hide"
[[want]]
kind = "document"
want = "hide"
[[want]]
kind = "article"
want = "hide"
"""
ANSWERS = {
    "/rota/a.html": True, "/rota/public.html": False, "/x?print=1": True, "/x": False, "/d/y.PDF": True, "/d/y.pdf?v=1": True,
    "/d/y.pdf.html": False, "/rota/none": False, "/": False,
}  # fmt: skip


def test_headers_on_a_real_nginx(audit_site: AuditSite, nginx: Any, indrel: Run, tmp_path: Path) -> None:
    site, _ = audit_site({**BASE, "/": html(body=a("/rota/a.html")), "/rota/a.html": html()}, intent=HEADERS_INTENT)
    found = headers.draft(site)
    assert [e.text for e in found.without] == ['kind = "article", want = "hide"']
    http, _, server = found.nginx.partition("# In the server block:")
    names = ("rota/a.html", "rota/public.html", "x", "d/y.PDF", "d/y.pdf", "d/y.pdf.html", "index.html")
    write_site(tmp_path / "www", dict.fromkeys(names, "hello"))
    at = nginx(tmp_path / "www", http, server)
    for path, hides in ANSWERS.items():
        try:
            with urllib.request.urlopen(at + path, timeout=5) as answer:
                told = answer.headers.get("X-Robots-Tag")
        except urllib.error.HTTPError as error:
            told = error.headers.get("X-Robots-Tag")
        assert told == ("noindex" if hides else None), path
    (tmp_path / "indrel.toml").write_text(HEADERS_INTENT)
    indrel("draft", "headers", site.snapshot.path, "-o", "conf", code=0)
    assert (tmp_path / "conf/indrel-nginx.conf").read_text() == found.nginx and "SetEnvIfExpr" in found.apache


def test_headers_for_what_the_site_implies(audit_site: AuditSite, nginx: Any, indrel: Run, tmp_path: Path) -> None:
    """Without an intent: by kind, or page by page where the kind's pattern would reach a page of another kind."""
    form = '<form action="/find" role="search"><input type="search" name="what"></form>'
    links = ("/cart/", "/search?q=x", "/find?what=x", "/huts?sort=up", "/shop/login")
    pages = {"/": html(body=a(*links, "/huts") + form), **{path: html(title=path) for path in (*links, "/huts")}}
    site, _ = audit_site({**BASE, **pages})
    found = headers.draft(site)
    assert found.inferred and {text: n for _, text, n in found.patterns} == {
        "cart (inferred)": 1, "login (inferred)": 1, "search-results (inferred)": 2,
    }  # fmt: skip
    http, _, server = found.nginx.partition("# In the server block:")
    write_site(tmp_path / "www", dict.fromkeys(("cart/index.html", "search", "find", "huts", "index.html"), "hello"))
    at = nginx(tmp_path / "www", http, server)
    for path, hides in {
        "/cart/": True,
        "/search?q=y": True,
        "/find": False,
        "/huts?sort=up": False,
        "/": False,
    }.items():
        with urllib.request.urlopen(at + path, timeout=5) as answer:
            assert answer.headers.get("X-Robots-Tag") == ("noindex" if hides else None), path
    done = indrel("draft", "headers", site.snapshot.path, code=0)
    assert "for the 4 unwanted pages that the audit found open" in done.stderr


def test_tickets_say_what_where_and_what_instead(audit_site: AuditSite, indrel: Run, tmp_path: Path) -> None:
    pages = {**BASE, "/": html(canonical("/"), a("/a", "/b", "/gone"))}
    pages |= {
        "/a": html('<meta name="robots" content="no-index, `x`">'),
        "/b": html(canonical("/") + canonical("/gone")),
    }
    site, verdict = audit_site(pages, intent='[[want]]\nmatch = "/c*"\nwant = "show"\n')
    done = indrel("draft", "tickets", site.snapshot.path, "-o", "t", "-o", "t.csv", "-o", "t.json", code=0)
    kept = json.loads((tmp_path / "t.json").read_text())
    rows = list(csv.DictReader(io.StringIO((tmp_path / "t.csv").read_bytes().decode(), newline="")))
    assert (
        [t["id"] for t in kept]
        == [r["id"] for r in rows]
        == [c.id for c in verdict.causes if c.severity is not Severity.NOTE]
    )
    for ticket, row in zip(kept, rows, strict=True):
        assert (tmp_path / "t" / ticket["name"]).read_text() == ticket["text"] and row["urls"].split("\n") == ticket[
            "urls"
        ]
        assert (
            row["labels"].split() == ticket["labels"] and ticket["labels"][0] in ("stop", "fix", "ask") and row["title"]
        )
    names = sorted(p.name for p in (tmp_path / "t").iterdir())
    told = {c.check for c in verdict.causes if c.severity.word != "note"}
    assert {n[5:-3] for n in names} == told and f"{len(names)} tickets" in done.stdout
    slip = next((tmp_path / "t").glob("*robots-token-slip.md")).read_text()
    assert "line 2" in slip and "indrel explain https://www.sarnfell.example/a" in slip and "Instead:" in slip
    gone = next((tmp_path / "t").glob("*link-to-gone.md")).read_text()
    assert (
        "## URLs" in gone and f"- `{HOST}/gone`" in gone and gone.startswith("# 1 page links to this URL. It returns")
    )
    assert "recheck" in gone and f"--cause {next(c.short for c in verdict.causes if c.check == 'link-to-gone')}" in gone


@pytest.mark.parametrize(
    ("check", "kind", "before", "message", "also", "after"),
    [
        ("noindex-wanted", "tag", '<meta name="robots" content="noindex, follow">', "", "", '<meta name="robots" content="follow">'),
        ("noindex-wanted", "header", "X-Robots-Tag: noindex", "", "", "(remove the line)"),
        ("page-nofollow", "tag", '<meta name="robots" content="noindex,nofollow">', "", "", '<meta name="robots" content="noindex">'),
        ("robots-unknown-field", "robots", "Dissallow: /x", "", "", "Disallow: /x"),
        ("robots-bad-path", "robots", "Disallow: x/", "", "", "Disallow: /x/"),
        ("robots-bad-path", "robots", "Disallow: /x#y", "", "", None),
        ("robots-bad-path", "robots", "Disallow: /x\\y\\", "", "", "Disallow: /x/y/"),
        ("robots-anchor-slip", "robots", "Disallow: /x/*", "", "", "Disallow: /x/"),
        ("robots-anchor-slip", "robots", "Disallow: /x$y", "", "", None),
        ("robots-token-slip", "tag", '<meta content="no-index,follow">', "", "", '<meta content="noindex,follow">'),
        ("robots-token-slip", "tag", '<meta content="noindex nofollow">', "", "", '<meta content="noindex, nofollow">'),
        ("robots-token-slip", "tag", '<meta content="nofollow,follw">', "", "", '<meta content="nofollow,follow">'),
        ("robots-token-slip", "tag", '<meta content="noindex,inde">', "", "", '<meta content="noindex,index">'),
        ("link-rel-slip", "link", '<a rel="me no-follow" href="/x">', "", "", '<a rel="me nofollow" href="/x">'),
        ("robots-case-slip", "robots", "Disallow: /Huts/", "", f"{HOST}/huts/a", "Disallow: /huts/"),
        ("canonical-to-gone", "canonical", '<link rel="canonical" href="/b">', "", f"{HOST}/b", f'<link rel="canonical" href="{HOST}/a">'),
        ("canonical-several", "canonical", '<link rel="canonical" href="/b">', "", "", None),
        ("user-link-followed", "link", '<a href="/x">', "", "", '<a rel="ugc" href="/x">'),
        ("user-link-followed", "link", '<a href="/x" rel="me">', "", "", None),
        ("listed-gone", "sitemap", "<loc>x</loc>", "", "", "(remove the entry)"),
        ("listed-gone", "status", "404 Not Found", "", "", None),
    ],
)  # fmt: skip
def test_what_instead(check: str, kind: str, before: str, message: str, also: str, after: str | None) -> None:
    evidence = (Evidence(kind, f"{HOST}/a", 3, before),)
    finding = Finding(
        check, CheckClass.FLAW, Severity.FIX, f"{HOST}/a", ("*",), message, evidence, (also,) if also else ()
    )
    change = checks()[check].change
    assert (change.of(finding) if change else None) == ((before, after) if after else None)


@pytest.mark.parametrize(
    ("entry", "listed"), [('match = "/a*"', False), ('match = "/a?page=2"', True), ('kind = "numbered-page"', True)]
)
def test_a_pattern_puts_no_further_parts_into_a_sitemap(entry: str, listed: bool, audit_site: AuditSite) -> None:
    """Whoever wants `/a*` speaks of pages; their second part and their variants are listed where they are named."""
    pages = {**BASE, "/": html(canonical("/"), a("/a", "/a?page=2")), "/a": html(), "/a?page=2": html(title="Page 2")}
    site, _ = audit_site(pages, intent=f'[[want]]\nmatch = "/a"\nwant = "show"\n[[want]]\n{entry}\nwant = "show"\n')
    found = sitemap_draft.draft(site)
    assert (b"page=2" in found.files["sitemap.xml"]) is listed and found.left_out == (
        {} if listed else {"of the kinds that sitemaps leave out (numbered pages, variants)": [f"{HOST}/a?page=2"]}
    )


def test_what_looks_private_is_not_opened_because_a_sitemap_lists_it(indrel: Run, tmp_path: Path) -> None:
    """It is a question; what is stated decides. What should be locked and is blocked cannot be checked, and that is said."""
    shut = ("/members/list", "/account/settings", "/invite/abc", "/huts/a")
    pages = {**BASE, "/": html(body=a(*shut, "/backup/x")), **dict.fromkeys((*shut, "/backup/x"), html()), "/backup/x": html(NOINDEX),
             "/sitemap.xml": sitemap("/", *shut, "/backup/x"),
             "/robots.txt": robots("Disallow: /members/", "Disallow: /account/", "Disallow: /invite/", "Disallow: /huts/")}  # fmt: skip
    (tmp_path / "indrel.toml").write_text(
        '[[want]]\nmatch = "/invite/*"\nwant = "show"\n[[want]]\nmatch = "/account/*"\nwant = "lock"\n'
    )
    with DemoServer(site=served(pages)) as server:
        at = [w for h in ("www.", "") for w in ("--connect", f"{h}sarnfell.example=http://127.0.0.1:{server.port}")]
        told = json.loads(indrel("audit", HOST, *at, "--rate", "0", "--json", code=1).stdout)
    severities = {
        (f["url"].removeprefix(HOST), f["severity"])
        for f in told["findings"]
        if f["check"] in ("listed-barred", "listed-hidden")
    }
    assert severities == {("/members/list", "ask"), ("/backup/x", "ask"), ("/huts/a", "fix")}
    assert told["verdict"]["lost"] == 2, "/invite/ is stated, /huts/ is no private word"
    asked = next(c for c in told["causes"] if c["severity"] == "ask" and c["check"] == "listed-barred")
    assert "looks private" in asked["mend"] and "Allow" not in asked["mend"]
    skipped = {s["check"]: s["because"] for s in told["skipped_checks"]}
    assert skipped["open-locked"] == "1 URL cannot be checked: blocked by robots.txt; use --read-barred"
    draft = indrel("draft", "robots", code=0).stdout
    assert (
        "+Allow: /invite/abc" in draft and "-Disallow: /members/" not in draft and "-Disallow: /account/" not in draft
    )
    assert "Allow: /members" not in draft
    assert "looks private" in indrel("explain", "/members/list", code=0).stdout


def test_every_host_of_the_site_can_have_its_robots_txt_drafted(audit_site: AuditSite, indrel: Run) -> None:
    book = "https://book.sarnfell.example"
    pages = {**BASE, "/": html(body=a("/huts/a")), "/huts/a": html(), f"{book}/": html(body=a("/stay")), f"{book}/stay": html(),
             f"{book}/robots.txt": "User-agent: *\nDisallow: /stay\n", "/robots.txt": robots("Disallow: /x")}  # fmt: skip
    intent = 'hosts = ["book.sarnfell.example"]\n[[want]]\nmatch = "//book.sarnfell.example/*"\nwant = "show"\n'
    site, _ = audit_site(pages, intent=intent)
    indrel_toml = Path(site.snapshot.path).parent / "w.toml"
    indrel_toml.write_text(intent)
    words = ("draft", "robots", "--from", site.snapshot.path, "--intent", indrel_toml)
    told = " ".join(indrel(*words, code=0).stdout.split())
    assert f"robots.txt of {book} blocks 1 wanted URL too: indrel draft robots --host {book}" in told
    own = indrel(*words, "--host", "book.sarnfell.example", code=0).stdout
    assert "-Disallow: /stay" in own or "+Allow: /stay" in own
    assert "its robots.txt was not read" in indrel(*words, "--host", "nowhere.test", code=2).stderr
