"""Gathering: manners towards servers, what is read and what is not, from real servers on this machine."""

from __future__ import annotations

import gzip
import json
import re
import ssl
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from itertools import product
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, HOST, NOINDEX, XMLNS, a, canonical, html, moved, robots, sitemap
from conftest import AuditSite, BothServer, needed, served
from indrel import pipeline
from indrel.core.crawlers import resolve
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from indrel.snapshot import Snapshot
from indrel.sources import fetch
from indrel.sources.fetch import retry_after
from indrel.sources.frontier import spread
from indrel.sources.options import Connect, GatherOptions
from test_program import Run, write_site


class Watched:
    """A site that notes what it is asked and may answer otherwise the first times."""

    def __init__(self, pages: dict[str, Any], first: dict[str, list[Response]] | None = None) -> None:
        self.site = served(pages)
        self.asked: list[tuple[str, str, float]] = []
        self.first = {path: list(answers) for path, answers in (first or {}).items()}
        answer = self.site.answer

        def watched(scheme: str, host: str, path: str) -> Response:
            self.asked.append((host, path, time.monotonic()))
            waiting = self.first.get(path)
            return waiting.pop(0) if waiting else answer(scheme, host, path)

        self.site.answer = watched  # type: ignore[method-assign]

    def paths(self, host: str = "www.sarnfell.example") -> list[str]:
        return [p for h, p, _ in self.asked if h == host]


def audit(
    watched: Watched, tmp_path: Any, hosts: tuple[str, ...] = (), certificate: Path | None = None, **options: Any
) -> tuple[Any, Any]:
    names = ("www.sarnfell.example", "sarnfell.example", *hosts)
    crawlers = resolve(options.pop("crawlers", ("googlebot", "bingbot", "*")))
    start, then = options.pop("start", HOST + "/"), options.pop("then", None)
    with BothServer(watched.site, certificate) if certificate else DemoServer(site=watched.site) as server:
        connect = tuple(Connect(h, "127.0.0.1", server.port, plain=not certificate) for h in names)
        wanted = GatherOptions(crawlers=crawlers, connect=connect, **{"rate": 0, "timeout": 5, **options})
        pipeline.gather(start, wanted, tmp_path / "s.indrel")
        if then:
            pipeline.gather(start, replace(wanted, limit=None), tmp_path / "s.indrel", **then)
    return pipeline.examine(tmp_path / "s.indrel")


def states(site: Any) -> dict[str, str]:
    return dict(site.rows(f"SELECT path, {site.state_sql(0)} FROM fact WHERE known"))


def test_busy_servers_are_waited_for(tmp_path: Any) -> None:
    busy = [Response(b"", 503, headers=(("Retry-After", "1"),))]
    watched = Watched(
        {**BASE, "/": html(body=a("/a")), "/a": html()}, {"/a": busy, "/robots.txt": [Response(b"", 429)]}
    )
    site, _ = audit(watched, tmp_path)
    assert states(site) == {"/": "open", "/a": "open"} and watched.paths().count("/a") == 2
    times = [t for _, p, t in watched.asked if p == "/a"]
    assert times[1] - times[0] >= 0.95
    site.close()


@pytest.mark.parametrize(
    ("value", "low", "high"),
    [
        ("3", 3, 3),
        ("Wed, 21 Oct 2015 07:28:00 GMT", 0, 0),
        ("soon", None, None),
        (None, None, None),
        ("-1", None, None),
    ],
)
def test_retry_after(value: str | None, low: float | None, high: float | None) -> None:
    found = retry_after(value)
    assert found is None if low is None else low <= (found or 0) <= (high or 0)


def test_rate_is_kept(tmp_path: Any) -> None:
    watched = Watched(
        {**BASE, "/": html(body=a(*[f"/{n}" for n in range(12)])), **{f"/{n}": html() for n in range(12)}}
    )
    site, _ = audit(watched, tmp_path, rate=20)
    times = sorted(t for h, _, t in watched.asked if h == "www.sarnfell.example")
    assert (times[-1] - times[0]) / (len(times) - 1) >= 1 / 20 * 0.9
    site.close()


@pytest.mark.parametrize(
    ("rules", "crawlers", "read"),
    [
        (robots("Disallow: /a"), ("googlebot", "*"), False),
        (robots("Disallow: /a", "User-agent: googlebot", "Allow: /a"), ("googlebot", "*"), True),
        (robots("Disallow: /a", "User-agent: googlebot", "Allow: /a"), ("bingbot",), False),
        (robots("User-agent: indrel", "Disallow: /a"), ("googlebot", "*"), False),
        (robots("Disallow: /a", "User-agent: Indrel", "Allow: /"), ("*",), True),
    ],
)
def test_obeys_for_the_audited_crawlers(rules: str, crawlers: tuple[str, ...], read: bool, tmp_path: Any) -> None:
    watched = Watched({**BASE, "/robots.txt": rules, "/": html(body=a("/a")), "/a": html()})
    audit(watched, tmp_path, crawlers=crawlers)[0].close()
    assert ("/a" in watched.paths()) is read


def test_read_barred_follows_nothing(tmp_path: Any) -> None:
    pages = {**BASE, "/robots.txt": robots("Disallow: /p/"), "/": html(body=a("/p/1", "/p/2")), "/p/1": html(body=a("/x")),
             "/p/2": moved("/y"), "/x": html(), "/y": html()}  # fmt: skip
    watched = Watched(pages)
    site, _ = audit(watched, tmp_path, read_barred=True)
    assert {"/p/1", "/p/2"} <= set(watched.paths()) and not {"/x", "/y"} & set(watched.paths())
    assert states(site)["/p/1"] == "barred" and states(site)["/x"] == "unread"
    site.close()


def test_a_crawler_that_is_answered_alike_costs_one_request(tmp_path: Any) -> None:
    pages = {**BASE, "/": html(body=a("/a", "/b")), "/a": html(), "/b": html(), "as bingbot /b": html(NOINDEX)}
    watched = Watched(pages)
    site, verdict = audit(watched, tmp_path, as_crawlers=True)
    assert watched.paths().count("/a") == 3  # for the audit, Googlebot and Bingbot
    assert [(f.check, f.url) for f in verdict.findings if f.check == "agent-differs"] == [
        ("agent-differs", HOST + "/b")
    ]
    site.close()


def test_stays_on_the_site(tmp_path: Any) -> None:
    """Pages elsewhere are not read; redirects are followed to see where they end, resources' hosts give robots.txt."""
    pages = {
        **BASE,
        "/": html(body=a("https://elsewhere.test/page", "/away") + '<img src="https://img.sarnfell.example/i.png">'),
        "/away": moved("https://elsewhere.test/start"),
        "https://elsewhere.test/start": moved("https://elsewhere.test/end"),
        "https://elsewhere.test/end": html(body=a("/more")),
        "https://img.sarnfell.example/robots.txt": robots("Disallow: /"),
    }
    watched = Watched(pages)
    site, verdict = audit(
        watched, tmp_path, hosts=("elsewhere.test", "img.sarnfell.example"), headers=(("X-Key", "secret"),)
    )
    assert set(watched.paths("elsewhere.test")) == {"/robots.txt", "/start", "/end"}
    assert watched.paths("img.sarnfell.example") == ["/robots.txt"]
    assert [f.url for f in verdict.findings if f.check == "resource-barred"] == ["https://img.sarnfell.example/i.png"]
    assert b"secret" not in (tmp_path / "s.indrel").read_bytes()
    site.close()


def test_declared_hosts_are_looked_at(tmp_path: Any) -> None:
    pages = {**BASE, "https://api.sarnfell.example/robots.txt": robots("Disallow: /")}
    site, verdict = audit(Watched(pages), tmp_path, hosts=("api.sarnfell.example",))
    assert "api.sarnfell.example" not in str([f.url for f in verdict.findings])
    site.close()
    wanted = Watched(pages)
    with DemoServer(site=wanted.site) as server:
        connect = tuple(
            Connect(h, "127.0.0.1", server.port, plain=True) for h in ("www.sarnfell.example", "api.sarnfell.example")
        )
        options = GatherOptions(crawlers=resolve(["*"]), rate=0, connect=connect, hosts=("api.sarnfell.example",))
        pipeline.gather(HOST + "/", options, tmp_path / "h.indrel")
    site, verdict = pipeline.examine(tmp_path / "h.indrel")
    assert [(f.check, f.url) for f in verdict.findings if f.check == "site-barred"] == [
        ("site-barred", "https://api.sarnfell.example/")
    ]
    site.close()


def index(*paths: str) -> str:
    return (
        f"<sitemapindex {XMLNS}>"
        + "".join(f"<sitemap><loc>{HOST}{p}</loc></sitemap>" for p in paths)
        + "</sitemapindex>"
    )


def test_sitemaps_of_all_forms(audit_site: AuditSite) -> None:
    pages = {
        "/": html(),
        "/robots.txt": robots(f"Sitemap: {HOST}/index.xml", "sitemap: relative.xml"),
        "/index.xml": index("/a.xml", "/b.xml.gz", "/c.txt", "/d.xml", "/gone.xml"),
        "/a.xml": sitemap("/1"),
        "/b.xml.gz": Response(gzip.compress(sitemap("/2").encode()), media_type="application/gzip"),
        "/c.txt": f"\ufeff{HOST}/3\n",
        "/d.xml": f"<rss><channel><item><link>{HOST}/4</link></item></channel></rss>",
        **{f"/{n}": html(title=str(n)) for n in range(1, 5)},
    }
    site, verdict = audit_site(pages)
    kinds = dict(
        site.rows("SELECT replace(url, 'https://www.sarnfell.example', ''), kind FROM sitemap WHERE status = 200")
    )
    assert kinds == {
        "/index.xml": "index",
        "/a.xml": "urlset",
        "/b.xml.gz": "urlset",
        "/c.txt": "text",
        "/d.xml": "rss",
    }
    assert {p for (p,) in site.rows("SELECT path FROM fact WHERE listed AND read")} == {"/1", "/2", "/3", "/4"}
    assert [f.url for f in verdict.findings if f.check == "sitemap-unreadable"] == [f"{HOST}/gone.xml"]


@pytest.mark.parametrize(
    ("path", "body", "found"),
    [
        ("/sitemap.txt", HOST + "/1\n", True),
        ("/sitemap_index.xml", index("/a.xml"), True),
        ("/sitemap-index.xml", "<html><title>x</title></html>", False),
        ("/sitemap.xml.gz", Response(b"", 500), False),
    ],
)
def test_usual_sitemap_addresses(path: str, body: Any, found: bool, audit_site: AuditSite) -> None:
    site, verdict = audit_site({"/": html(), "/robots.txt": robots(), "/a.xml": sitemap("/1"), path: body})
    assert bool(site.one("SELECT count(*) FROM sitemap")) is found
    assert ("sitemap-none" in {f.check for f in verdict.findings}) is not found


def test_a_compressed_copy_is_no_sitemap_of_its_own(audit_site: AuditSite, tmp_path: Path, indrel: Run) -> None:
    listed = sitemap("/", "/1")
    packed = Response(gzip.compress(listed.encode()), media_type="application/gzip")
    site, verdict = audit_site(
        {"/": html(body=a("/1")), "/1": html(), "/sitemap.xml": listed, "/sitemap.xml.gz": packed}
    )
    assert site.one("SELECT count(*) FROM sitemap") == 1 and "sitemap-repeat" not in {f.check for f in verdict.findings}
    write_site(
        tmp_path / "b",
        {"index.html": html(body=a("/1.html")), "1.html": html(), "sitemap.xml": sitemap("/", "/1.html")},
    )
    (tmp_path / "b/sitemap.xml.gz").write_bytes(packed.body)
    doc = json.loads(indrel("audit", "b", "--base", HOST + "/", "--json", "-q", code=0).stdout)
    assert "sitemap-repeat" not in {f["check"] for f in doc["findings"]}


def test_an_app_that_answers_everything(audit_site: AuditSite) -> None:
    """One shell for every path: the two files are pages, and made-up addresses exist."""
    shell = Response(b"<!doctype html><html><title>App</title><div id=app></div></html>")
    _, verdict = audit_site({"/": shell}, missing=shell)
    found = {f.check for f in verdict.findings}
    assert {"robots-is-page", "missing-answers-200"} <= found and "sitemap-is-page" in found


def test_relative_links_on_a_page_that_answers_any_path_come_to_an_end(audit_site: AuditSite) -> None:
    """`a/b/a/c/...`: no number differs and nothing repeats; only that all of it is one page tells that it has no end."""
    trap = html(body="<p>The huts stand above the tarns, open all year.</p>" * 5 + a("a/", "b/", "c/"))
    site, verdict = audit_site(
        {"/": trap, "/robots.txt": "User-agent: *\nDisallow:"}, Response(trap.encode()), per_pattern=10
    )
    assert verdict.complete and verdict.addresses < 200
    assert any(
        "only copies of https://www.sarnfell.example/ link to them (--per-pattern)" in note for note in verdict.notes
    )
    left = sum(site.meta["copies"].values()) + sum(site.meta["bounded"].values())
    assert left == len(list(site.rows("SELECT 1 FROM fact WHERE site AND known AND tail = 'unread'")))


def test_the_same_site_gives_the_same_answer(audit_site: AuditSite) -> None:
    pages = {
        **BASE,
        "/": html(body=a(*[f"/{n}" for n in range(30)])),
        **{f"/{n}": html(body=a(f"/{n + 40}")) for n in range(30)},
    }
    first, second = (audit_site(pages)[1] for _ in range(2))
    assert [f.as_json() for f in first.findings] == [f.as_json() for f in second.findings]
    assert len([f for f in first.findings if f.check == "link-to-gone"]) == 30


def test_a_text_copy_that_no_one_names_repeats_nothing(audit_site: AuditSite) -> None:
    pages = {"/": html(), "/robots.txt": robots(), "/sitemap.xml": sitemap("/"), "/sitemap.txt": f"{HOST}/\n"}
    assert "sitemap-repeat" not in {f.check for f in audit_site(pages)[1].findings}
    named = robots("Disallow:", *(f"Sitemap: {HOST}/sitemap.{end}" for end in ("xml", "txt")))
    told = [f for f in audit_site({**pages, "/robots.txt": named})[1].findings if f.check == "sitemap-repeat"]
    assert [e.text for f in told for e in f.evidence] == [f"{HOST}/", f"<loc>{HOST}/</loc>"]


class _Recording(BaseHTTPRequestHandler):
    wbufsize = 1 << 16
    pages: dict[str, tuple[int, str, str]]
    asked: list[tuple[str, str | None]]

    def do_GET(self) -> None:
        self.asked.append((self.path, self.headers.get("X-Key")))
        status, body, to = self.pages.get(self.path, (404, "", ""))
        self.send_response(status)
        self.send_header("Content-Type", "text/plain" if self.path.endswith(".txt") else "text/html")
        if to:
            self.send_header("Location", to)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body.encode())

    def log_message(self, *_: Any) -> None:
        pass


@contextmanager
def recording(
    pages: dict[str, tuple[int, str, str]], certificate: Path | None = None
) -> Iterator[tuple[int, list[tuple[str, str | None]]]]:
    asked: list[tuple[str, str | None]] = []
    handler = type("Handler", (_Recording,), {"pages": pages, "asked": asked})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    if certificate:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield server.server_address[1], asked
    server.shutdown()
    server.server_close()
    thread.join()


def test_a_certificate_must_be_trusted(tmp_path: Path, indrel: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    """The machine's own trust decides, for the site and for an endpoint; what it does not know is told as that."""
    openssl = needed("openssl")
    both = tmp_path / "both.pem"
    subject = ["-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost"]
    made = [openssl, "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", both, "-out", tmp_path / "own.pem"]
    subprocess.run([*made, *subject], check=True, capture_output=True)
    both.write_text(both.read_text() + (tmp_path / "own.pem").read_text())
    pages = {"/robots.txt": (200, "User-agent: *\nDisallow: /drafts/\n", ""), "/": (200, "<p>Huts", "")}
    with recording(pages, both) as (port, asked):
        robots, paced = f"https://localhost:{port}/robots.txt", ("--rate", "0")
        refused = indrel("robots", "match", robots, "/drafts/", code=2)
        assert "certificate" in refused.stderr and not asked
        monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "own.pem"))
        assert "Disallow: /drafts/" in indrel("robots", "match", robots, "/drafts/").stdout
        indrel("audit", f"https://localhost:{port}/", *paced, code=0)
        assert ("/", None) in asked
        sent = indrel("audit", f"https://127.0.0.1:{port}/", *paced, code=3)
        assert "certificate" in sent.stderr  # trusted, and for another name


def test_no_name_that_a_site_gives_leads_into_a_private_network(tmp_path: Any) -> None:
    """Redirects, sitemaps and resource hosts that a site names are not asked where they are private; credentials stay at home."""
    with recording({"/robots.txt": (200, "User-agent: *\nDisallow:", ""), "/other": (200, "other port", "")}) as (
        inner,
        told,
    ):
        own = {
            f"/{n}": (302, "", f"http://{host}:{inner}/secret")
            for n, host in enumerate(("127.0.0.1", "2130706433", "0x7f.1", "[::1]"))
        }
        own["/p"] = (302, "", f"http://localhost:{inner}/other")
        own["/robots.txt"] = (200, f"User-agent: *\nDisallow:\nSitemap: http://127.0.0.1:{inner}/s.xml\n", "")
        own["/"] = (
            200,
            "".join(f'<a href="{p}">x</a>' for p in own) + f'<img src="http://127.0.0.1:{inner}/i.png">',
            "",
        )
        with recording(own) as (port, asked):
            options = GatherOptions(crawlers=resolve(["*"]), rate=0, timeout=5, headers=(("X-Key", "secret"),))
            gathered = pipeline.gather(f"http://localhost:{port}/", options, tmp_path / "s.indrel")
        assert {p for p, _ in told} == {"/robots.txt", "/other"} and {key for _, key in told} == {None}
        assert {key for _, key in asked} == {"secret"}
    with Snapshot(gathered.snapshot) as snapshot:
        private = dict(snapshot.rows("SELECT origin, error FROM robots WHERE origin NOT LIKE '%localhost%'"))
        assert private == dict.fromkeys(
            [f"http://127.0.0.1:{inner}", f"http://[::1]:{inner}"], "not requested: a private IP address"
        )
        assert (
            snapshot.one("SELECT fetch_error FROM sitemap WHERE via = 'robots'")
            == "not requested: a private IP address"
        )


@pytest.mark.parametrize("value", ["²", "-5", "1e9", "", "99999999999999999999"])
def test_an_odd_pause_is_no_pause(value: str) -> None:
    assert fetch.retry_after(value) is None
    assert fetch._length(value) in (0, 1 << 62)


@pytest.mark.parametrize(
    "named", ["http://www.sarnfell.example/", "http://sarnfell.example/", "https://sarnfell.example/a"]
)
def test_a_site_stands_where_its_named_variant_leads(named: str, tmp_path: Path, certificate: Path) -> None:
    """Of a site that is named by a variant which redirects, each page is read, once; rules that bar the variant keep all out."""
    secure = "https://sarnfell.example"
    leads = {named: moved(HOST + "/a" if named.endswith("a") else HOST + "/")}
    if named.startswith("http://sarnfell"):
        leads = {named: moved(secure + "/"), secure + "/": moved(HOST + "/")}
    watched = Watched({**BASE, "/": html(canonical("/"), a("/a")), "/a": html(canonical("/a"), a("/")), **leads})
    site, verdict = audit(watched, tmp_path, certificate=certificate, start=named)
    assert site.base == HOST + ("/a" if named.endswith("a") else "/") and verdict.headline.lost == 0
    assert site.rows("SELECT path FROM fact WHERE html AND site ORDER BY path") == [("/",), ("/a",)]
    assert watched.paths().count("/a") == 1 and f"{named} redirects to {site.base}, which was audited" in verdict.notes
    assert not [f for f in verdict.findings if f.check in ("start-not-open", "no-path", "sitemap-foreign")]
    site.close()
    site, _ = audit(watched, tmp_path, certificate=certificate, start=named, limit=1, then={"resume": True})
    assert site.rows("SELECT path FROM fact WHERE html AND site ORDER BY path") == [("/",), ("/a",)]
    origin = named.rstrip("a").rstrip("/")
    watched = Watched({**BASE, "/a": html(), **leads, origin + "/robots.txt": robots("Disallow: /")})
    site.close()
    verdict = audit(watched, tmp_path, certificate=certificate, start=named)[1]
    assert verdict.headline.whole and "site-barred" in {f.check for f in verdict.findings}


@pytest.mark.parametrize("limit", [3, 15, 30, 45])
def test_what_was_left_unread_stays_so_when_an_audit_goes_on(limit: int, tmp_path: Path) -> None:
    """A calendar that never ends, and copies of one page: broken off anywhere, they are as long as in one go."""
    text = "<p>The huts stand above the tarns, open all year.</p>" * 5
    pages = {
        **BASE,
        "/": html(body=a("/day/0", "/huts", "/lost/")),
        **{f"/day/{n}": html(body=f"<p>{n}</p>" + a(f"/day/{n + 1}")) for n in range(90)},
        "/huts": html(body=a(*(f"/hut/{n}" for n in range(20)))),
        **{f"/hut/{n}": html(body=f"<p>{n}</p>" + a(f"/hut/{n + 1}", f"/hut/{n + 20}")) for n in range(60)},
    }
    for depth in range(5):
        for way in product("abc", repeat=depth):
            pages["/lost/" + "".join(f"{one}/" for one in way)] = html(body=text + a("a/", "b/", "c/"))
    whole, _ = audit(Watched(pages), tmp_path, per_pattern=8)
    read = {path for path, state in states(whole).items() if state == "open"}
    assert {"/day/8", "/hut/19"} <= read and not {"/day/9", "/hut/50"} & read and len(read) < 80
    whole_bounds = whole.meta["bounded"].keys()
    whole.close()
    broken, _ = audit(Watched(pages), tmp_path, per_pattern=8, limit=limit, then={"resume": True})
    now = {path for path, state in states(broken).items() if state == "open"}
    assert "/day/8" in now and "/day/9" not in now, (
        "of a chain it is known which are read; of the others, how many about"
    )
    assert abs(len(now) - len(read)) <= 3 * 8, (
        now ^ read
    )  # which copies were the first is a matter of who answered first
    tree = {f"{HOST}/**"}  # whether its copies or its names end it first is a matter of who answered first, too
    assert broken.meta["bounded"].keys() | tree == whole_bounds | tree and sum(broken.meta["copies"].values()) > 20


@pytest.mark.parametrize("source", ["site", "folder"])
def test_wanted_addresses_of_a_list_are_looked_for_wherever_they_would_stand(
    source: str, tmp_path: Path, indrel: Run
) -> None:
    """The addresses that a build must have: those that are not there are lost, and named though nothing links them."""
    pages = {"index.html": html(canonical("/"), a("/huts/a")), "huts/a": html(canonical("/huts/a"), title="A")}
    (tmp_path / "also.txt").write_text(f"{HOST}/huts/a\n/huts/b\n# later\n\n/huts/c\nhttps://outfitter.example/\n")
    (tmp_path / "indrel.toml").write_text('[[want]]\nmatch = "/huts/*"\nwant = "show"\n')
    if source == "folder":
        write_site(tmp_path / "build", {name if "." in name else f"{name}.html": text for name, text in pages.items()})
        said = indrel("audit", "build", "--base", HOST + "/", "--also", "also.txt", "--json", "-q", code=0)
    else:
        live = {"/" if name == "index.html" else f"/{name}": text for name, text in pages.items()}
        with DemoServer(site=served({**BASE, **live})) as server:
            at = [
                word
                for host in ("www.", "")
                for word in ("--connect", f"{host}sarnfell.example=http://127.0.0.1:{server.port}")
            ]
            said = indrel("audit", HOST, *at, "--also", "also.txt", "--rate", "0", "--json", "-q", code=0)
    doc = json.loads(said.stdout)
    assert doc["verdict"]["lost"] == 2 and doc["verdict"]["wanted"] == 4
    assert any(
        f"without links and sitemap entry cannot be indexed: {HOST}/huts/b and 1 more" in note for note in doc["notes"]
    )


def test_a_limited_audit_reads_a_sample_of_every_section(indrel: Run, tmp_path: Path) -> None:
    """Not the sitemap's first pages: some of each folder, then a draw from all, the same each time."""
    names = [f"huts/{n}" for n in range(200)] + [f"routes/{n}" for n in range(40)] + ["about/team", "about/jobs"]
    first = spread([f"{HOST}/{name}" for name in ("", *names)], 20, f"{HOST}/")[:20]
    assert (
        first[0] == f"{HOST}/"
        and first == spread([f"{HOST}/{name}" for name in ("", *reversed(names))], 20, f"{HOST}/")[:20]
    )
    counts = Counter(url.split("/")[3] for url in first)
    assert counts["about"] == 2 and counts["routes"] >= 3 and counts["huts"] > counts["routes"]
    assert spread(["b", "a"], 2) == spread(["b", "a"], None) == ["b", "a"]
    build = {f"{name}.html": html(NOINDEX if name.startswith("routes") else "") for name in names}
    write_site(
        tmp_path / "b",
        {**build, "index.html": html(), "sitemap.xml": sitemap("/", *(f"/{name}.html" for name in names))},
    )
    told = json.loads(indrel("audit", "b", "--base", HOST + "/", "--limit", 20, "--json", "-q").stdout)
    assert told["counts"]["states"]["*"]["hidden"] >= 3 and "--limit 20" in told["incomplete_because"]
    site = served({**{f"/{name}": html(NOINDEX if name.startswith("routes") else "") for name in names}, "/": html(),
                   "/robots.txt": robots("Disallow:"), "/sitemap.xml": sitemap("/", *(f"/{name}" for name in names))})  # fmt: skip
    with DemoServer(site=site) as server:
        connect = ["--connect", f"{HOST[8:]}=http://127.0.0.1:{server.port}", "--rate", 0]
        told = json.loads(indrel("audit", HOST + "/", *connect, "--limit", 20, "--json", "-q").stdout)
    assert told["counts"]["states"]["*"]["hidden"] >= 3 and told["counts"]["states"]["*"]["open"] >= 5


def test_a_limited_audit_tells_shares_with_an_interval(indrel: Run, tmp_path: Path) -> None:
    """Each section counts by its size, not by how much of it was read."""
    names = [f"huts/{n}" for n in range(900)] + [f"routes/{n}" for n in range(20)]
    build = {
        f"{name}.html": html(NOINDEX if n % 10 == 0 or name.startswith("routes") else "")
        for n, name in enumerate(names)
    }
    write_site(
        tmp_path / "b", {**build, "index.html": html(), "sitemap.xml": sitemap(*(f"/{name}.html" for name in names))}
    )
    told = " ".join(indrel("audit", "b", "--base", HOST + "/", "--limit", 150).stdout.split())
    found = re.search(
        r"of the 920 URLs in sitemaps that are not blocked, from (\d+) read, .*: noindex ([\d.]+)% \(probably ([\d.]+)% to ([\d.]+)%\)",
        told,
    )
    assert found and 140 <= int(found[1]) <= 150, told
    assert float(found[3]) < 100 * 110 / 920 < float(found[4]) and float(found[4]) - float(found[3]) < 12
    assert "URLs in sitemaps that" not in indrel("audit", "b", "--base", HOST + "/").stdout
