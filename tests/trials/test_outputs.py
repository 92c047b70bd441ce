"""Every command and every format on a site whose texts, wherever one can stand, are attacks."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from markdown_it import MarkdownIt
from selectolax.lexbor import LexborHTMLParser

from cases import HOST, XMLNS
from conftest import served
from indrel.demo.server import DemoServer
from indrel.demo.site import Response

NASTY = "=1+1\x1b]0;t\x07\u202e<script>alert(7)</script>\"'><img src=x onerror=alert(7)> [l](javascript:alert(7)) `|`"
NASTY += " `@warden #12 GH-7 org/huts#3 !4 www.outfitter.example/x https://outfitter.example/y a@outfitter.example ``~~ ![i](//x) |"
URL = "/%3Cscript%3E=1+1'\"[x](javascript:alert(7))|`&amp;<b>?`@warden=`#12&www.outfitter.example"
STEER = re.compile(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def page(head: str = "", body: str = "", title: str = NASTY) -> str:
    return (
        f'<!doctype html><html lang="{NASTY[:4]}"><head><title>{title}</title>\n<meta name="robots" content="{head}">\n'
        f'<meta name="description" content="=cmd {NASTY[4:12]}"></head><body><h1>{NASTY}</h1>\n'
        f"<p>Some words of the hut book, {title}.</p>\n{body}</body></html>"
    )


def site(later: bool) -> dict[str, Any]:
    """The site before and after somebody worked on it; most things on it are wrong."""
    crlf = NASTY.replace("\x1b", "").replace("\u202e", "").replace("\x07", "")
    links = "".join(
        f'<a href=\'{path}\' rel="{rel}">{NASTY}</a>\n'
        for path, rel in ((URL.replace("'", "&#39;"), "nofollow"), ("/open", ""), ("/gone", NASTY.replace('"', "")), ("/hut", ""),
                          ("/move", ""), ("https://=1+1.example/\x1b[2J", ""), ("/search?q=%1b[31m" + "<script>", ""))
    )  # fmt: skip
    robots = (
        f"User-agent: *\nDisallow: /x{NASTY}\nDisallow: /hut # {NASTY}\n{NASTY}: 1\n"
        f"User-agent: {NASTY}\nDisallow: /\nSitemap: {NASTY}\n"
    )
    entries = "".join(
        f"<url><loc>{HOST}{p}</loc><lastmod>=1+1</lastmod></url>\n"
        for p in ("/", URL.replace("&amp;", "&amp;amp;").replace("<b>", "&lt;b>"), "/open", "/gone", "/hut", "/move")
    )
    return {
        "/robots.txt": robots,
        "/sitemap.xml": f"<urlset {XMLNS}>{entries}<url><loc>=1+1&lt;script></loc></url></urlset>",
        "/": page(body=links),
        "/open": page("noindex" if later else "", title="=2+2 [x](javascript:alert(7))"),
        "/hut": page(),
        URL: Response(
            page(f"noindex, {NASTY.split('<')[0]}".replace('"', "")).encode(),
            headers=(("X-Robots-Tag", f"noindex, {crlf}"),),
        ),
        "/move": Response(b"", 302, headers=(("Location", URL),)),
        "/search?q=%1b[31m<script>": page(f"noindex,{NASTY[:4]}"),
    }


INTENT = f"""
[[want]]
match = "/open*"
want = "hide"
because = {json.dumps(NASTY.replace(chr(0x202E), ""))}
[[accept]]
check = "listed-hidden"
match = "*"
because = {json.dumps(NASTY.replace(chr(0x202E), ""))}
"""
LOG = "".join(
    f'66.249.66.1 - - [20/Nov/2026:10:00:0{n} +0000] "GET {p} HTTP/1.1" {s} 5 "-" "Googlebot/2.1 {NASTY[6:]}"\n'.replace(
        '"><', "><"
    )
    for n, (p, s) in enumerate(
        (("/open", 200), ("/<script>alert(7)</script>\x1b[2J", 200), ("/hut", 200), ("/=1+1", 200))
    )
)
TABLE = io.StringIO()
csv.writer(TABLE).writerows(
    [
        ["URL", "Status", "Reason"],
        [f"{HOST}/open", "Indexed", NASTY],
        [f"{HOST}/=1+1<script>\x1b[2J", "Indexed", "=1+1"],
        [f"{HOST}/hut", "Excluded", NASTY],
    ]
)


def text_is_inert(text: str, what: str) -> None:
    assert not (found := STEER.search(text)), f"{what}: {text[max(0, found.start() - 80) : found.end() + 20]!r}"


def page_is_inert(text: str, what: str) -> None:
    tree = LexborHTMLParser(text)
    scripts = [node.text() for node in tree.css("script")]
    assert not [s for s in scripts if "alert(7)" in s and not s.lstrip().startswith(("{", "["))], what
    for node in tree.css("*"):
        assert not [name for name in node.attributes if name.startswith("on")], (what, node.html[:200])
        for name in ("href", "src", "action"):
            assert not (node.attributes.get(name) or "").strip().lower().startswith("javascript"), (
                what,
                node.html[:200],
            )
    assert not tree.css("img[src=x]"), what
    text_is_inert(text.replace("\t", " "), what)


def cells_are_inert(rows: Any, what: str) -> None:
    for row in rows:
        for cell in row:
            if isinstance(cell, str):
                assert not cell.startswith(("=", "+", "@", "\t", "\r")) and not re.match(r"-\D", cell), (what, cell)
                text_is_inert(cell, what)


MARKDOWN = MarkdownIt("gfm-like", {"html": True, "linkify": True})
MENTION = re.compile(r"(?<![\w`])@[A-Za-z]|(?<!\w)[#!~%&$^]\w|\w[#!]\d|GH-\d|https?://|www\.", re.IGNORECASE)


def markdown_is_inert(text: str, what: str) -> None:
    """A reader of Markdown finds no link, image or HTML, and outside code nothing that is a mention or a reference."""
    text_is_inert(text, what)
    blocks = MARKDOWN.parse(text)
    assert [b.type for b in blocks].count("table_open") <= max(1, text.count("\n## ")), (
        what
    )  # the states; one for each part
    for block in blocks:
        assert block.type != "html_block", (what, block.content)
        for part in block.children or ():
            assert part.type in ("text", "code_inline", "softbreak", "strong_open", "strong_close"), (
                what,
                part.type,
                block.content,
            )
            if part.type == "text":
                assert not (found := MENTION.search(part.content)), (what, found, part.content)


def strings(value: Any) -> Any:
    if isinstance(value, dict):
        for one in value.values():
            yield from strings(one)
    elif isinstance(value, list):
        for one in value:
            yield from strings(one)
    elif isinstance(value, str):
        yield value


def look(file: Path) -> None:
    match file.suffix:
        case ".html":
            page_is_inert(file.read_text("utf-8"), file.name)
        case ".csv":
            cells_are_inert(csv.reader(io.StringIO(file.read_text("utf-8-sig"))), file.name)
        case ".xlsx":
            book = openpyxl.load_workbook(file)
            for sheet in book:
                for row in sheet:
                    assert not [c.value for c in row if c.data_type == "f"], (file.name, sheet.title)
                    for cell in row:
                        text_is_inert(str(cell.value).replace("\n", " "), file.name)
                        target = (cell.hyperlink and cell.hyperlink.target) or ""
                        assert not target.lower().startswith("javascript")
        case ".md":
            markdown_is_inert(file.read_text("utf-8"), file.name)
        case ".sarif":
            for run in json.loads(file.read_text("utf-8"))["runs"]:
                for one in run["results"]:
                    shown = one["message"]["text"]  # plain text, in which only links are markup
                    text_is_inert(shown, file.name)
                    assert not re.search(r"(?<!\\)\]\(javascript", shown), shown
        case ".json":
            json.loads(file.read_text("utf-8"))
        case _:
            text_is_inert(file.read_text("utf-8").replace("\t", " "), file.name)


ENDINGS = ("html", "json", "csv", "xlsx", "md", "sarif")


def test_no_output_carries_what_a_site_plants(indrel: Any, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Nothing steers a terminal, runs in a page or a spreadsheet, or is markup in a comment."""
    (tmp_path / "indrel.toml").write_text(INTENT, "utf-8")
    (tmp_path / "a.log").write_text(LOG, "utf-8")
    (tmp_path / "t.csv").write_text(TABLE.getvalue(), "utf-8")
    (tmp_path / "new.txt").write_text(site(True)["/robots.txt"] + "Disallow: /open\n", "utf-8")
    (tmp_path / "map.xml").write_text(site(True)["/sitemap.xml"], "utf-8")
    tried: list[str] = []

    def run(line: str, *more: str) -> None:
        outputs = [tmp_path / word[9:] for word in line.split() if word.startswith("--output=")]
        done = indrel(*line.split(), *more)
        assert done.returncode in (0, 1) and "unexpected" not in done.stderr, (line, done.stderr)
        text_is_inert(done.stderr, line)
        if "--json" in line:
            for one in done.stdout.splitlines() if not done.stdout.startswith("{\n") else [done.stdout]:
                json.loads(one)
            assert "\x1b" not in done.stdout
        else:
            text_is_inert(done.stdout, line)
        for file in outputs:
            look(file)
        tried.append(line)

    for name, later in (("old", False), ("new", True)):
        with DemoServer(site=served(site(later))) as server:
            connect = [
                f"--connect={host}=http://127.0.0.1:{server.port}"
                for host in ("www.sarnfell.example", "sarnfell.example")
            ]
            outputs = " ".join(f"--output={name}.{ending}" for ending in ENDINGS)
            run(f"audit {HOST}/ --rate=0 --as-crawlers --all -v --snapshot={name}.indrel {outputs}", *connect)
            if later:
                run("recheck --from old.indrel --rate=0 --output=recheck.txt", *connect)
                run(f"audit {HOST}/ --rate=0 --against old.indrel --snapshot=third.indrel", *connect)
                run(f"robots check {HOST}/robots.txt", *connect)
                run(f"sitemap check {HOST}/sitemap.xml", *connect)
    every = " ".join(f"--output={{0}}.{ending}" for ending in ENDINGS)
    run("audit new.indrel --baseline old.indrel " + every.format("base"))
    run("report new.indrel " + every.format("again"))
    run("list --from new.indrel --output=list.csv --output=list.xlsx")
    run("list --from new.indrel --columns url,by,text,where,folds_into")
    run("list --from new.indrel --json")
    for address in ("/open", URL.replace("&amp;", "&"), "/hut", "/move", "/nothing\x1b[2J"):
        run("explain --from new.indrel", address)
        run("explain --json --from new.indrel", address)
    run("compare old.indrel new.indrel --output=c.txt --output=c.html --output=c.xlsx --output=c.md --output=c.csv")
    run("history --in .")
    run("reconcile --from new.indrel t.csv --output=r.csv --output=r.xlsx --unknown=u.txt")
    run("reconcile --from new.indrel a.log --output=l.csv --output=l.xlsx --unknown=u2.txt")
    for command in ("robots check new.txt", "sitemap check map.xml", "robots matrix --from new.indrel",
                    "robots impact new.indrel new.txt", "intent show --from new.indrel /open", "intent check --from new.indrel",
                    "intent draft --from new.indrel", "draft robots --from new.indrel", "draft headers --from new.indrel",
                    "draft sitemap --from new.indrel -o maps",
                    "draft tickets --from new.indrel --output tickets --output=k.csv --output=k.json",
                    "ledger request /open --from new.indrel", "ledger status"):  # fmt: skip
        run(command)
    run("robots match new.txt", f"{HOST}/hut\x1b[2J", "=1+1")
    for file in [*tmp_path.glob("tickets/*"), *tmp_path.glob("u*.txt")]:
        look(file)
    with capsys.disabled():
        print(f"\nhostile texts: {len(tried)} commands, {len(list(tmp_path.glob('*.*')))} files, none steers or runs")
