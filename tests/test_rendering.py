"""Pages as a rendering crawler sees them: a real browser looks at small served sites, some at fault, most of them fine."""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from cases import API, LOAD, SENT, TOLD, a, canonical, html, robots, scripted
from conftest import HOST, PROGRAM, served
from indrel.core.page.rendered import EMPTY, ERROR, OK, outcome_of
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from indrel.gather.answers import Answer
from indrel.sources.browser.answering import REFUSED, Wish
from indrel.sources.browser.launch import NAMES, find
from indrel.sources.browser.look import Look
from indrel.sources.browser.tabs import Tabs
from test_archive import page, write

Run = Callable[..., "subprocess.CompletedProcess[str]"]
ROBOTS = "script-changes-robots"
SHELL = "<div id=m></div>"
FILL = f"m.innerHTML = '<main><h1>Hut</h1>{TOLD}</main>'"
OTHER = (
    "<p>Seven paths lead up from three valleys; two need an axe before May, one crosses fords that floods close.</p>"
)
DATA = f"fetch('{API}/open').then(r => r.json()).then(t => m.innerHTML = '<main><p>' + t + '</p></main>')"


def shell(script: str, body: str = SHELL) -> str:
    return f"<!doctype html><html><head><title>Hut</title></head><body>{body}<script>{script}</script></body></html>"


FINE: dict[str, str] = {
    "hydrates": scripted(
        "document.querySelector('[rel=canonical]').href = '/hydrates'; m.innerHTML += ''", TOLD, canonical("/hydrates")
    ),
    "asks-for-cookies": scripted(
        "document.body.insertAdjacentHTML('beforeend', '<div role=dialog>Sorry, an error occurred. Please try again later.</div>')"
    ),
    "covers-itself": shell(
        FILL + "; document.body.insertAdjacentHTML('beforeend', '<div style=\"position:fixed;inset:0\">An error occurred</div>')"
    ),
    "loads-pictures-late": scripted(
        "addEventListener('scroll', () => m.querySelector('img').src = '/p.png')", TOLD + "<img data-src=/p.png>"
    ),
    "counts-visitors": scripted("", TOLD, f"<script src={API}/counter.js></script>")
    + f"<script>navigator.sendBeacon('{API}/count', 'x'); new Image().src = '{API}/count.gif'</script>",
    "adds-paid-links": scripted("m.insertAdjacentHTML('beforeend', '<a rel=\"sponsored nofollow\" href=https://shop.outfitter.example/>')"),
    "is-filled": shell(FILL),
    "is-filled-by-data": shell(DATA),
    "tag/winter": shell("m.innerHTML = '<h1>Winter</h1><a href=/imports>Imports</a>'"),
    "has-a-shadow": shell(f"m.attachShadow({{mode: 'open'}}).innerHTML = '<main><h1>Hut</h1>{TOLD}</main>'"),
    "imports": f"<title>Hut</title>{SHELL}<script type=module>await new Promise(d => setTimeout(d, 900)); {FILL}</script>",
    "takes-its-time": shell(f"setTimeout(() => {DATA}, 2500)"),
    "leads-on-later": scripted("setTimeout(() => { location.href = '/elsewhere' }, 4000)"),
    "reloads-itself": scripted("location.reload()"),
    "names-itself": scripted("history.replaceState(0, '', '/names-itself?view=list')"),
    "asks-back": scripted("alert(1); confirm(2); prompt(3); onbeforeunload = () => 'stay'; print(); open('/popup')"),
    "works-in-a-worker": shell(
        f"w = new Worker(URL.createObjectURL(new Blob([`fetch('{API}/open').then(r => r.json()).then(postMessage)`])));"
        "w.onmessage = e => m.innerHTML = '<main><p>' + e.data + '</p></main>'"
    ),
    "frames-a-map": scripted("", f"{TOLD}<iframe src={API}/board></iframe>"),
    "polls": scripted("setInterval(() => fetch('/poll'), 20)"),
    "is-a-picture": shell(
        f"document.head.append(Object.assign(document.createElement('script'), {{src: '{API}/counter.js'}}))",
        "<main><img src=/p.png></main>",
    ),
    "adds-known-links": scripted(
        "new IntersectionObserver(s => s[0].isIntersecting && m.insertAdjacentHTML('beforeend', '<a href=/imports>x</a>')).observe(e)",
        TOLD + "<div style='height:300vh'></div><i id=e>.</i>",
    ),
    "says-none": scripted(
        "document.querySelector('[name=robots]').content = 'nofollow, noindex'", TOLD, '<meta name="robots" content="none">'
    ),
    "greets-again": scripted("if (localStorage.here) m.textContent = 'Welcome back'; localStorage.here = 1"),
    "opens-a-socket": scripted(f"new WebSocket('{API.replace('https', 'wss')}/live')"),
    "is-large": shell(f"{FILL}; for (let i = 0; i < 20000; i++) m.append(Object.assign(document.createElement('p'), {{textContent: i}}))"),
    "throws": scripted("setTimeout(() => { throw new Error('harmless') })"),
    "tells-of-errors": scripted("1", "<h1>Errors</h1><p>Could not be loaded: what that means, and what to do then.</p>"),
}  # fmt: skip
"""Pages on which no check of this kind fires."""

FAULTY: dict[str, tuple[str, set[str]]] = {
    "x-empty": (shell(DATA.replace("/open", "/board")), {"render-broken"}),
    "x-failing": (scripted(LOAD.replace("/board", "/down")), {"render-broken"}),
    "x-breaks": (shell("m.innerHTML = nothing.here"), {"render-broken"}),
    "x-waits": (f"<title>Hut</title><main>Loading the huts</main><script src={API}/board.js></script>", {"render-broken"}),
    "x-presses": (
        scripted(
            "const show = () => m.insertAdjacentHTML('beforeend', '<a href=/only-so>x</a>')",
            f"{TOLD}<button onclick=show()>Show more</button>",
        ),
        {"content-needs-scroll"},
    ),
    "x-sees-its-end": (
        scripted(
            "new IntersectionObserver(s => s[0].isIntersecting && (m.innerHTML += '<a href=/only-there>x</a>')).observe(e)",
            TOLD + "<div style='height:5000px'></div><i id=e>.</i>",
        ),
        {"content-needs-scroll"},
    ),
    "x-missing": (scripted("fetch('/none.json').then(r => { if (!r.ok) m.innerHTML = '<h1>Not found</h1>' })", ""), {"soft-missing"}),
    "tag/x-none": (shell("m.innerHTML = '<h1>Summer</h1><p>No entries yet.</p>'"), {"empty-archive-open"}),
    "x-opens": (scripted("document.querySelector('[name=robots]').remove()", TOLD, '<meta name="robots" content="noindex">'), {ROBOTS}),
    "x-folds": (
        shell(FILL.replace("Hut", "Routes").replace(TOLD, OTHER)).replace("Hut</title>", f"Routes</title>{canonical('/is-filled')}"),
        {"canonical-unlike"},
    ),
    "x-for-some": (scripted(LOAD.replace("/board", "/mobile")), {"render-broken"}),
}  # fmt: skip

COMMON = "Disallow: /board\nDisallow: /count\n"
RULES = f"User-agent: *\n{COMMON}\nUser-agent: googlebot\nDisallow: /mobile\n{COMMON}"
PAGES: dict[str, Any] = {
    "/robots.txt": robots("Disallow:"),
    "/": html(canonical("/"), a(*(f"/{name}" for name in (*FINE, *FAULTY))), "Start"),
    **{f"/{name}": page for name, page in FINE.items()},
    **{f"/{name}": page for name, (page, _) in FAULTY.items()},
    f"{API}/robots.txt": Response(RULES.encode(), media_type="text/plain"),
    f"{API}/open": Response(b'"Snow on all tops above the huts this morning"', **SENT),
    f"{API}/mobile": Response(b'"Snow on all tops above the huts this morning"', **SENT),
    f"{API}/board": Response(b'"never to be had"', **SENT),
    f"{API}/down": Response(b"", 503, **SENT),
    "/poll": "ok",
}
CHECKS = {c for _, checks in FAULTY.values() for c in checks} | {
    "script-changes-canonical",
    "script-leads-away",
    "script-needs-visit",
}

needs_browser = pytest.mark.skipif(
    not os.environ.get("CI") and not any(map(shutil.which, NAMES)), reason="no Chromium here: apt-get install chromium-headless-shell"
)  # fmt: skip


class Heard(DemoServer):
    """Knows what it was asked for."""

    def __init__(self, pages: dict[str, Any]) -> None:
        super().__init__(site=served(pages))
        self.paths: list[str] = []
        handler: Any = self._server.RequestHandlerClass
        answered, paths = handler.do_GET, self.paths

        def do_get(this: Any) -> None:
            paths.append(this.headers.get("Host", "").partition(":")[0] + this.path)
            answered(this)

        handler.do_GET = do_get

    @property
    def options(self) -> list[str]:
        place = f"http://127.0.0.1:{self.port}"
        return ["--rate", "0", "--connect", f"{HOST}={place}", "--connect", f"{API[8:]}={place}"]


@pytest.fixture(scope="module")
def looked(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, list[str]]]:
    """A snapshot of the site, every page looked at, and what its server was asked for."""
    file = tmp_path_factory.mktemp("looked") / "s.indrel"
    with Heard(PAGES) as server:
        done = subprocess.run(
            [PROGRAM, "audit", f"https://{HOST}/", "--render=all", "--snapshot", file, "-q", *server.options],
            capture_output=True, text=True, timeout=300,
        )  # fmt: skip
        assert done.returncode == 1, done.stderr
    yield file, server.paths


@needs_browser
def test_faults_are_found_and_nothing_else(looked: tuple[Path, list[str]], indrel: Run) -> None:
    found: dict[str, set[str]] = {}
    doc = json.loads(indrel("audit", looked[0], "--json", "-q").stdout)
    for finding in doc["findings"]:
        if finding["check"] in CHECKS:
            found.setdefault(finding["url"].removeprefix(f"https://{HOST}/"), set()).add(finding["check"])
    assert found == {name: checks for name, (_, checks) in FAULTY.items()}
    scrolls = {
        f["url"].rpartition("/")[2]: f["message"] for f in doc["findings"] if f["check"] == "content-needs-scroll"
    }
    assert scrolls["x-presses"].endswith("only after a click.")
    assert scrolls["x-sees-its-end"].endswith("after scrolling; crawlers that render with a very tall window see them.")
    only_some = next(f for f in doc["findings"] if f["url"].endswith("/x-for-some"))
    assert only_some["crawlers"] == ["googlebot"] and only_some["evidence"][0]["text"] == "Disallow: /mobile"
    for crawler, told in (("bingbot", []), ("googlebot", ["googlebot"])):  # asked about alone later
        found_for = json.loads(indrel("audit", looked[0], "--crawler", crawler, "--json", "-q").stdout)["findings"]
        assert [
            c for f in found_for if f["url"].endswith("/x-for-some") and f["check"] in CHECKS for c in f["crawlers"]
        ] == told
    counter = next(f for f in doc["findings"] if f["url"].endswith("/counter.js"))
    assert counter["check"] == "resource-barred" and counter["severity"] == "note"


@needs_browser
def test_nothing_barred_is_ever_fetched(looked: tuple[Path, list[str]]) -> None:
    paths = looked[1]
    assert f"{API[8:]}/open" in paths and f"{API[8:]}/robots.txt" in paths
    assert not [p for p in paths if p.startswith(API[8:]) and ("/board" in p or "/count" in p)]
    assert paths.count(f"{HOST}/poll") <= 3 * 100  # what polls is stopped at a hundred a look


@needs_browser
def test_a_page_is_explained_as_served_and_as_rendered(looked: tuple[Path, list[str]], indrel: Run) -> None:
    shown = indrel("explain", "/x-empty", "--from", looked[0]).stdout
    assert "rendered: the page is empty" in shown and f"{API}/robots.txt:7 Disallow: /board" in " ".join(shown.split())
    told = json.loads(indrel("explain", "/is-filled", "--from", looked[0], "--json").stdout)["rendered"]
    assert told["served"]["words"] == 0 and told["rendered"]["words"] > 10 and told["outcome"] == "ok"
    picture = looked[0].with_name("p.webp")
    indrel("explain", "/x-empty", "--from", looked[0], "--picture", picture, code=0)
    assert picture.read_bytes()[8:12] == b"WEBP"
    assert (
        "no picture of it" in indrel("explain", "/is-filled", "--from", looked[0], "--picture", picture, code=2).stderr
    )
    rows = [json.loads(line) for line in indrel("list", looked[0], "--json", "-q").stdout.splitlines()]
    assert {r["rendered"] for r in rows if r["url"].endswith(("/x-empty", "/is-filled"))} == {"ok", "empty"}


def test_without_a_browser_nothing_is_fetched(indrel: Run, tmp_path: Path) -> None:
    with Heard(PAGES) as server:
        source = ["audit", f"https://{HOST}/", "--render", *server.options]
        none = subprocess.run(
            [PROGRAM, *source], env={"PATH": str(tmp_path)}, capture_output=True, text=True, timeout=60
        )
        wrong = indrel(*source, "--browser", "no-such-file", code=2)
        broken = indrel(*source, "--browser", shutil.which("true") or "", code=2)
        assert server.paths == []
    assert none.returncode == 2
    assert none.stderr.splitlines() == [
        "indrel: --render needs a Chromium: apt-get install chromium-headless-shell (or name one: --browser FILE)"
    ]
    assert "no-such-file: no program there" in wrong.stderr and "does not start" in broken.stderr
    assert "write --render" in indrel("audit", "x", "--render=some", code=2).stderr


@needs_browser
def test_a_folder_is_rendered_from_its_files(indrel: Run, tmp_path: Path) -> None:
    folder = tmp_path / "built"
    (folder / "js").mkdir(parents=True)
    (folder / "js/a.js").write_text(
        "document.head.insertAdjacentHTML('beforeend', '<meta name=robots content=noindex>')"
    )
    (folder / "index.html").write_text(html(body=f"{TOLD}{a('/far.html')}<script src=/js/a.js></script>"))
    (folder / "far.html").write_text(shell(DATA.replace("/open", "/board")))
    file = tmp_path / "f.indrel"
    told = indrel("audit", folder, "--base", f"https://{HOST}/", "--render", "--snapshot", file, "-q", code=1).stdout
    doc = json.loads(indrel("audit", file, "--json", "-q").stdout)
    (changed,) = [f for f in doc["findings"] if f["check"] == ROBOTS]
    assert changed["url"] == f"https://{HOST}/" and changed["evidence"][0]["where"] == "index.html"
    assert not [f for f in doc["findings"] if f["check"] == "render-broken"]  # what is elsewhere is not known
    assert f"it needs {API}/board, which is not in the folder" in " ".join(told.split())


@needs_browser
def test_a_recheck_looks_again_and_without_a_browser_it_does_not_know(indrel: Run, tmp_path: Path) -> None:
    page = scripted(
        "document.head.insertAdjacentHTML('beforeend', '<meta name=robots content=noindex>')", head=canonical("/a")
    )
    pages = {**PAGES, "/": html(canonical("/"), a("/a"), "Start"), "/a": page}
    audit = ["audit", f"https://{HOST}/", "--render", "-q", "--snapshot"]
    with Heard(pages) as server:
        indrel(*audit, "one.indrel", *server.options, code=1)
        told = indrel("audit", f"https://{HOST}/", "--render", "--snapshot", "told.indrel", *server.options).stderr
        assert "looking at 1 of the 1 pages found so far that run scripts, with a browser (about 1 s)" in told
        args = ["recheck", "one.indrel", "--check", ROBOTS, "--json", "-q", *server.options]
        assert [f["check"] for f in json.loads(indrel(*args, code=1).stdout)["still"]] == [ROBOTS]
        place = {"env": {"PATH": str(tmp_path)}, "cwd": tmp_path, "capture_output": True, "text": True, "timeout": 60}
        (unknown,) = json.loads(subprocess.run([PROGRAM, *args], **place).stdout)["unknown"]
        assert unknown["unknown_because"] == "not rendered this time"
        indrel("audit", f"https://{HOST}/", "-q", "--snapshot", "two.indrel", *server.options, code=0)
    compared = json.loads(indrel("compare", "one.indrel", "two.indrel", "--json", "-q").stdout)
    assert compared["findings_gone"] == [] and "not rendered (--render)" in json.dumps(compared["unknown"])
    with Heard(pages | {"/a": scripted("1", head=canonical("/a"))}) as server:
        args = ["recheck", "one.indrel", "--check", ROBOTS, "--json", "-q", *server.options]
        assert [f["check"] for f in json.loads(indrel(*args, code=0).stdout)["mended"]] == [ROBOTS]


@needs_browser
@pytest.mark.filterwarnings("ignore:.*SpooledTemporaryFile")  # the archive writer's own
def test_an_archive_is_rendered_from_its_records(indrel: Run, tmp_path: Path) -> None:
    body = html(
        body=f"{TOLD}<main id=m></main><script src={API}/board.js></script><script>{LOAD.replace('/board', '/open')}</script>"
    )
    kinds = {"allow": ("Access-Control-Allow-Origin", "*"), "json": ("Content-Type", "application/json")}
    file = write(tmp_path / "a.warc.gz", [
        page("/", body), (f"{API}/robots.txt", "200 OK", [("Content-Type", "text/plain")], RULES.encode()),
        (f"{API}/open", "200 OK", list(kinds.values()), b'"Something went wrong"'),
    ])  # fmt: skip
    doc = json.loads(indrel("audit", file, "--render", "--json", "-q", code=1).stdout)
    (broken,) = [f for f in doc["findings"] if f["check"] == "render-broken"]
    assert broken["evidence"][0]["where"] == f"{API}/robots.txt" and broken["also"] == [f"{API}/board.js"]


def test_without_render_nothing_of_it_is_loaded(tmp_path: Path) -> None:
    (tmp_path / "index.html").write_text(html())
    code = (
        "import sys; from indrel.cli.app import main\ntry: main()\nexcept SystemExit: pass\n"
        "assert 'indrel.sources.folder' in sys.modules; print([m for m in sys.modules if 'browser' in m or m.endswith('rendering')])"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, "audit", ".", "-q"], cwd=tmp_path, capture_output=True, text=True, timeout=60
    )
    assert done.stdout.splitlines()[-1] == "['indrel.checks.topics.rendering']", done.stderr


class Given:
    """Answers everything but what has `barred` in it."""

    lacks = "is not there"

    async def barred(self, url: str) -> int:
        return int("barred" in url)

    async def get(self, wish: Wish) -> Answer:
        return Answer(
            wish.url,
            200,
            headers={"content-type": ["text/html"], "access-control-allow-origin": ["*"]},
            body=b"<p>x</p>",
        )


def look_at(*pages: str, size: int = 1) -> list[Look]:
    """Look at pages, one after the other in the same tab."""

    async def run() -> list[Look]:
        async with Tabs(find(), Given(), size=size) as tabs:
            documents = [
                Answer(
                    f"https://{HOST}/a", 200, headers={"content-type": ["text/html; charset=utf-8"]}, body=p.encode()
                )
                for p in pages
            ]
            if size > 1:
                return list(await asyncio.gather(*(tabs.look(d.url, d, 1) for d in documents)))
            return [await tabs.look(d.url, d, 1) for d in documents]

    return asyncio.run(run())


@needs_browser
def test_every_look_is_a_first_visit() -> None:
    page = scripted(
        "const had = [localStorage.a, sessionStorage.a, document.cookie, window.name]; (async () => {"
        "had.push((await caches.keys()).length, (await indexedDB.databases()).length);"
        "had.push((await navigator.serviceWorker.getRegistrations()).length);"
        "localStorage.a = sessionStorage.a = window.name = 'a'; document.cookie = 'a=1; max-age=9999'; await caches.open('a');"
        "indexedDB.open('a'); m.textContent = JSON.stringify(had) })()"
    )  # fmt: skip
    said = {str(look.seen and look.seen["text"]).strip() for look in look_at(*[page] * 12)}
    assert said == {'[null,null,"","",0,0,0]'}


@needs_browser
def test_what_never_ends_is_ended_and_told() -> None:
    pages = [
        scripted(s)
        for s in (
            "while (true) {}", "(function f() { Promise.resolve().then(f) })()", "for (const a = [];;) a.push(new Array(1e6).fill(a))",
            "m.textContent = 'fine'",
        )
    ]  # fmt: skip
    began = time.monotonic()
    endless, ticks, bomb, fine = look_at(*pages, size=2)
    assert "10 s" in str(endless.why) and "10 s" in str(ticks.why)
    assert "memory" in str(bomb.why) or "10 s" in str(bomb.why)  # whichever comes first on a busy machine
    assert fine.why is None and fine.seen and fine.seen["text"].strip() == "fine" and time.monotonic() - began < 90


@needs_browser
def test_a_refused_request_stays_in_the_browser() -> None:
    (look,) = look_at(scripted("fetch('https://api.sarnfell.example/barred').catch(() => m.textContent = 'refused')"))
    assert [(q.url, q.result) for q in look.asked] == [("https://api.sarnfell.example/barred", REFUSED)]
    assert look.seen and look.seen["text"].strip() == "refused"


def processes_of(folder: Path) -> list[int]:
    """The processes whose command line names a folder."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                if str(folder).encode() in (entry / "cmdline").read_bytes():
                    found.append(int(entry.name))
            except OSError:
                continue
    return found


@needs_browser
@pytest.mark.parametrize("victim", ["audit", "browser"])
def test_nothing_is_left_behind_by_a_kill(victim: str, tmp_path: Path) -> None:
    scratch = Path("/tmp") / f"ik{os.getpid()}{victim}"
    scratch.mkdir(mode=0o755)
    pages = {"/": html(body=a("/a") + "<script>1</script>"), "/a": scripted("while (true) {}")}
    try:
        with Heard(pages) as server:
            audit = subprocess.Popen(
                [PROGRAM, "audit", f"https://{HOST}/", "--render", "--snapshot", tmp_path / "s.indrel", *server.options],
                env={**os.environ, "TMPDIR": str(scratch)}, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            )  # fmt: skip
            deadline = time.monotonic() + 30
            while server.paths.count(f"{HOST}/a") < 2 and time.monotonic() < deadline:
                time.sleep(0.05)
            chromes = [p for p in processes_of(scratch) if b"guard.py" not in Path(f"/proc/{p}/cmdline").read_bytes()]
            lines = {p: Path(f"/proc/{p}/cmdline").read_bytes() for p in chromes}
            assert chromes and not any(b"--no-sandbox" in line for line in lines.values())
            assert os.getuid() or all(Path(f"/proc/{p}").stat().st_uid for p in chromes), "root's browser is nobody's"
            os.kill(audit.pid if victim == "audit" else min(chromes), signal.SIGKILL)
            out, err = audit.communicate(timeout=90)
        deadline = time.monotonic() + 10
        while (processes_of(scratch) or any(scratch.glob("indrel-browser-*"))) and time.monotonic() < deadline:
            time.sleep(0.05)
        assert not processes_of(scratch) and not any(scratch.glob("indrel-browser-*"))
        if victim == "browser":
            assert audit.returncode in (0, 1) and "Nothing" in out, err  # it was started again, and the page looked at
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


@pytest.mark.parametrize(
    ("text", "shows", "outcome"),
    [
        (TOLD, False, OK), ("", True, OK), ("", False, EMPTY), ("Loading huts, please wait", True, EMPTY), ("Hut", False, EMPTY),
        ("Sorry, the conditions could not be loaded.", True, ERROR), ("Something went wrong", False, ERROR),
        ("Loading bays behind the hut take two vans, and a third can wait on the lane below the dam", False, OK),
    ],
)  # fmt: skip
def test_an_error_is_told_from_a_page(text: str, shows: bool, outcome: str) -> None:
    assert outcome_of(text, [], len(text.split()), shows) == outcome


@needs_browser
def test_what_does_not_answer_is_not_known(indrel: Run, tmp_path: Path) -> None:
    silent = "https://board.sarnfell.example"  # a name that leads nowhere
    pages = {**PAGES, "/": html(canonical("/"), a("/a", "/b"), "Start"), "/a": scripted(LOAD.replace(API, silent))}
    pages["/b"] = scripted(LOAD).replace("</main>", f"</main><script src={silent}/count.js></script>")
    with Heard(pages) as server:
        audit = ["audit", f"https://{HOST}/", "--render", "-q", "--snapshot", "s.indrel", *server.options]
        told = " ".join(indrel(*audit, code=1).stdout.split())
    assert (
        f"1 page could not be rendered, such as https://{HOST}/a (it needs {silent}/board, which could not be reached)"
        in told
    )
    found = json.loads(indrel("audit", "s.indrel", "--json", "-q").stdout)["findings"]
    assert [(f["url"], f["evidence"][0]["text"]) for f in found if f["check"] == "render-broken"] == [
        (f"https://{HOST}/b", "Disallow: /board")
    ]
    assert f"data {silent}/board: no response" in " ".join(
        indrel("explain", "/a", "--from", "s.indrel", "-q").stdout.split()
    )
