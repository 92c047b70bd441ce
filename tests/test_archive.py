"""A WARC file as a source: what it holds is judged as a site's answers are, what it lacks is not known."""

from __future__ import annotations

import gzip
import io
import json
from pathlib import Path
from typing import Any

import brotli
import duckdb
import pytest
from warcio.statusandheaders import StatusAndHeaders
from warcio.warcwriter import WARCWriter

from cases import HOST, NOINDEX, a, canonical, html, robots, sitemap
from indrel.snapshot.schema import TABLES
from indrel.sources.archive import Archive
from indrel.sources.options import GatherOptions
from test_program import Run

pytestmark = pytest.mark.filterwarnings("ignore:.*SpooledTemporaryFile")  # the writer's own
Record = tuple[str, str, list[tuple[str, str]], bytes]
DAY = "2026-11-2{}T08:00:00Z"


def page(path: str, body: str, status: str = "200 OK", *headers: tuple[str, str]) -> Record:
    return path, status, [("Content-Type", "text/html; charset=utf-8"), *headers], body.encode()


def write(file: Path, records: list[Record | dict[str, Any]], packed: bool = True) -> Path:
    """Write an archive; a dict is a record of another kind than `response`."""
    with file.open("wb") as out:
        writer = WARCWriter(out, gzip=packed)
        writer.write_record(writer.create_warcinfo_record(file.name, {"software": "a test"}))
        for number, one in enumerate(records):
            more: dict[str, Any] = {"warc_headers_dict": {"WARC-Date": DAY.format(number % 10)}}
            if isinstance(one, dict):
                writer.write_record(writer.create_record(**one))
                continue
            path, status, headers, body = one
            url = path if "://" in path else HOST + path
            head = StatusAndHeaders(status, headers, protocol="HTTP/1.1")
            writer.write_record(writer.create_warc_record(url, "response", io.BytesIO(body), http_headers=head, **more))
    return file


def audited(indrel: Run, *arguments: object, code: int | None = None) -> dict[str, Any]:
    done = indrel("audit", *arguments, "--json", "-q", "--fail-on", "never", code=code)
    found: dict[str, Any] = json.loads(done.stdout)
    return found


SITE: list[Record | dict[str, Any]] = [
    page("/", html(canonical("/"), a("/a", "/b", "/old", "/shut", "/gone"))),
    page("/a", html(NOINDEX)),
    page("/b", html(), "200 OK", ("X-Robots-Tag", "noindex")),
    page("/old", "", "301 Moved Permanently", ("Location", "/a")),
    page("/gone", html(), "404 Not Found"),
    page("/shut", html(NOINDEX)),
    ("/robots.txt", "200 OK", [("Content-Type", "text/plain")], robots("Disallow: /shut", f"Sitemap: {HOST}/s.xml").encode()),
    ("/s.xml", "200 OK", [("Content-Type", "application/xml")], sitemap("/", "/a").encode()),
    page("https://elsewhere.example/", html()),
]  # fmt: skip


@pytest.mark.parametrize("packed", [True, False])
def test_an_archive_is_judged_as_the_site(indrel: Run, tmp_path: Path, packed: bool) -> None:
    file = write(tmp_path / ("x.warc.gz" if packed else "x.warc"), SITE, packed)
    found = audited(indrel, file.name, "--snapshot", "x.indrel", code=0)
    assert (found["source"]["kind"], found["source"]["location"]) == ("warc", file.name) and found["complete"]
    assert found["counts"]["states"]["*"] == {"barred": 1, "folded": 1, "gone": 1, "hidden": 2, "open": 1}
    told = {(f["check"], f["url"].removeprefix(HOST)) for f in found["findings"]}
    assert told >= {("listed-hidden", "/a"), ("barred-noindex", "/shut"), ("link-to-gone", "/gone")}
    row = next(f for f in found["findings"] if f["check"] == "listed-hidden")
    assert [(e["where"].removeprefix(HOST), e["line"]) for e in row["evidence"]] == [("/a", 2), ("/s.xml", 2)]
    again = indrel("explain", "/old", "--from", "x.indrel", code=0).stdout
    assert "301 Moved Permanently" in again and "folded" in again


def test_what_is_not_there_is_not_known(indrel: Run, tmp_path: Path) -> None:
    write(tmp_path / "x.warc.gz", [page("/", html(body=a("/a", "/far"))), page("/a", html())])
    found = audited(indrel, "x.warc.gz")
    assert not found["complete"] and found["incomplete_because"].endswith(f"in x.warc.gz, such as {HOST}/far")
    assert found["counts"]["states"]["*"] == {"unread": 1, "open": 2}
    skipped = {s["check"]: s["because"] for s in found["skipped_checks"]}
    assert skipped["robots-missing"] == "robots.txt of the site is unknown" and "sitemap-none" in skipped
    assert not {f["check"] for f in found["findings"]} & {
        "robots-missing",
        "sitemap-none",
        "link-to-gone",
        "robots-unreachable",
    }


def test_several_answers_bodies_packed_and_named_elsewhere(indrel: Run, tmp_path: Path) -> None:
    text = html(NOINDEX)
    digest = "sha1:3I42H3S6NNFQ2MSVX7XZKYAYSCX5QBYJ"
    moved = StatusAndHeaders("200 OK", [("Content-Type", "text/html")], protocol="HTTP/1.1")
    same = StatusAndHeaders("304 Not Modified", [], protocol="HTTP/1.1")
    links = a("/twice", "/chunked", "/br", "/seen", "/kept", "/file")
    records: list[Record | dict[str, Any]] = [
        page(f"<{HOST}/>", html(body=links)),
        page("/twice", html()),
        page("/chunked", "", "200 OK", ("Transfer-Encoding", "chunked"), ("Content-Encoding", "gzip")),
        ("/br", "200 OK", [("Content-Type", "text/html"), ("Content-Encoding", "br")], brotli.compress(text.encode())),
        page("/kept", text),
        page("/twice", text),
    ]
    whole = gzip.compress(text.encode())
    chunked = b"%x\r\n%s\r\n0\r\n\r\n" % (len(whole), whole)
    records[2] = (*records[2][:3], chunked)  # type: ignore[index, assignment]
    file = write(tmp_path / "x.warc.gz", records)
    with file.open("ab") as out:
        writer = WARCWriter(out, gzip=True)
        for url, head in ((f"{HOST}/seen", moved), (f"{HOST}/kept", same)):
            writer.write_record(
                writer.create_revisit_record(url, digest, f"{HOST}/kept", DAY.format(4), http_headers=head)
            )
        writer.write_record(
            writer.create_warc_record(
                f"{HOST}/file", "resource", io.BytesIO(text.encode()), warc_content_type="text/html"
            )
        )
    found = audited(indrel, file.name)
    assert found["counts"]["states"]["*"] == {"hidden": 6, "open": 1} and found["complete"]


def test_a_damaged_archive_keeps_what_was_read(indrel: Run, tmp_path: Path) -> None:
    whole = write(tmp_path / "x.warc.gz", SITE).read_bytes()
    plain = write(tmp_path / "x.warc", SITE, False).read_bytes()
    for cut in range(1_000, len(plain), 97):  # wherever it is cut, that is said, and nothing is lost that stood before
        (tmp_path / "cut.warc").write_bytes(plain[:cut])
        archive = Archive(tmp_path / "cut.warc", GatherOptions(crawlers=()))
        whole_ones = plain[:cut].count(b"HTTP/1.1 ") - 1
        between = b"WARC/1.0" in plain[cut : cut + 12]
        assert bool(archive.fault) is not between and whole_ones <= len(archive.places) <= whole_ones + 1, cut
        (tmp_path / "cut.warc.gz").write_bytes(whole[: cut * len(whole) // len(plain)])
        assert Archive(tmp_path / "cut.warc.gz", GatherOptions(crawlers=())).fault, cut
    (tmp_path / "cut.warc.gz").write_bytes(whole[: len(whole) * 2 // 3])
    found = audited(indrel, "cut.warc.gz", code=3)
    assert not found["complete"] and "cut.warc.gz is cut: its last record is incomplete" in found["incomplete_because"]
    assert found["counts"]["states"]["*"]["open"] == 1
    for name, content, said in [
        ("a.warc", b"no archive at all\r\n" * 20, "cannot be read as a WARC file"),
        ("b.warc.gz", b"\x1f\x8b broken", "cannot be read as a WARC file"),
        ("c.warc", b"", "cannot be read as a WARC file"),
    ]:
        (tmp_path / name).write_bytes(content)
        done = indrel("audit", name, code=2)
        assert said in done.stderr and len(done.stderr.splitlines()) == 1, done.stderr
    write(tmp_path / "d.warc", [("/x.png", "200 OK", [("Content-Type", "image/png")], b"x")], packed=False)
    assert "has no HTML page" in indrel("audit", "d.warc", code=2).stderr
    assert (
        "has no page of https://other.example"
        in indrel("audit", "x.warc.gz", "--base", "https://other.example/", code=2).stderr
    )
    assert not list(tmp_path.glob("indrel-runs/other*")), "what cannot be audited leaves no snapshot"


def tables_of(file: Path) -> dict[str, list[str]]:
    """Every table of a snapshot with URLs in place of their numbers, in order."""
    con = duckdb.connect(str(file), read_only=True)
    urls = dict(con.execute("SELECT id, origin || path FROM address").fetchall())
    found = {}
    for name in sorted(set(TABLES) - {"meta"}):
        told = con.execute(f"SELECT * FROM {name}")
        names = [column[0] for column in told.description]
        rows = [
            {n: urls.get(v, v) if n in NUMBERS else v for n, v in zip(names, row, strict=True) if n != "fetched"}
            for row in told.fetchall()
        ]
        found[name] = sorted(map(repr, rows))
    con.close()
    return found


NUMBERS = {"id", "address", "source", "target", "refresh", "leads_to"}


def test_several_archives_are_one(indrel: Run, tmp_path: Path) -> None:
    """In any order, as a folder, and as `cat` of them: the latest answer counts, and a body may be in another file."""
    text = html(NOINDEX)
    digest = "sha1:3I42H3S6NNFQ2MSVX7XZKYAYSCX5QBYJ"
    seen = StatusAndHeaders("200 OK", [("Content-Type", "text/html"), ("X-Robots-Tag", "none")], protocol="HTTP/1.1")
    links = page("/", html(canonical("/"), a("/a", "/b", "/old", "/shut", "/gone", "/seen", "/late")))
    parts = [[links, *SITE[1:3], page("/late", html())], SITE[3:6], [*SITE[6:], page("/late", html(NOINDEX))]]
    (tmp_path / "crawl").mkdir()
    files = [write(tmp_path / f"crawl/c-{n}.warc.gz", part) for n, part in enumerate(parts)]
    with files[2].open("ab") as out:
        writer = WARCWriter(out, gzip=True)
        first = {"WARC-Date": DAY.format(0), "WARC-Payload-Digest": digest}
        record = writer.create_warc_record(
            f"{HOST}/first",
            "response",
            io.BytesIO(text.encode()),
            warc_headers_dict=first,
            http_headers=StatusAndHeaders("200 OK", [("Content-Type", "text/html")], protocol="HTTP/1.1"),
        )
        writer.write_record(record)
    with files[0].open("ab") as out:
        writer = WARCWriter(out, gzip=True)
        writer.write_record(
            writer.create_revisit_record(f"{HOST}/seen", digest, f"{HOST}/first", DAY.format(9), http_headers=seen)
        )
    (tmp_path / "all.warc.gz").write_bytes(b"".join(file.read_bytes() for file in files))
    whole = audited(indrel, "all.warc.gz", "--snapshot", "all.indrel")
    states = whole["counts"]["states"]["*"]
    assert states["hidden"] == 5 and states["barred"] == 1
    for number, sources in enumerate((files, files[::-1], ["crawl"])):
        told = audited(indrel, *sources, "--snapshot", f"{number}.indrel", code=0)
        assert told["counts"] == whole["counts"] and told["complete"] == whole["complete"]
        assert tables_of(tmp_path / f"{number}.indrel") == tables_of(tmp_path / "all.indrel")
    assert "and 2 more" in told["source"]["location"] or told["source"]["location"] == "crawl"
    cut = files[1].read_bytes()
    files[1].write_bytes(cut[: len(cut) - 40])
    (tmp_path / "crawl/d.warc").write_bytes(b"nonsense")
    done = indrel("audit", "crawl", "--json", "-q", "--fail-on", "never", code=3)
    told = json.loads(done.stdout)
    assert "c-1.warc.gz is cut" in done.stderr and "d.warc cannot be read as a WARC file" in done.stderr
    assert told["counts"]["states"]["*"]["hidden"] == 5 and not told["complete"]
    refused = indrel("audit", files[0], "all.indrel", code=2).stderr
    assert "all.indrel is no WARC file: several SOURCEs are read only if all of them are" in refused


def test_an_archive_without_robots_txt_says_so_first(indrel: Run, tmp_path: Path) -> None:
    write(tmp_path / "x.warc.gz", [page("/", html(canonical("/"), a("/a"))), page("/a", html())])
    first = " ".join(indrel("audit", "x.warc.gz").stdout.split())
    assert "UTC: robots.txt is not in the archive, so what it blocks is unknown. " in first
