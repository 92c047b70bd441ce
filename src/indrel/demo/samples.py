"""Files to try commands on, next to the demonstration's reports: a build with an accident, the audit before it, a new robots.txt,
an archive, an engine's export and a server log."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable
from pathlib import Path

from warcio.statusandheaders import StatusAndHeaders
from warcio.warcwriter import WARCWriter

from indrel import pipeline
from indrel.core.crawlers import DEFAULT, resolve
from indrel.core.intent import DEFAULT_NAME
from indrel.demo.outside import export, log
from indrel.demo.page import MAIN, Response
from indrel.demo.site import HUTS, START, Site, build, sitemap, slug
from indrel.sources.options import GatherOptions

NEW_ROBOTS = """User-agent: *
Disallow: /search
Disallow: /huts/over
Allow: /bookings/$
Disallow: /bookings/

Sitemap: https://www.sarnfell.example/sitemap.xml
"""
ACCIDENT = ("over-sarn", "anvil-stone")
"""Huts whose pages got a noindex in the build, left there from a draft."""

PATHS = ("/", "/huts/", *(f"/huts/{slug(hut)}/" for hut in HUTS))
ARCHIVED = (*PATHS, "/robots.txt", "/sitemap.xml", "/tag/winter/")
BEFORE = "2026-11-20T08:00:00Z"


def write_samples(folder: Path) -> None:
    """Write the files, in place of those of an earlier demonstration."""
    site = build()
    (folder / "engine-export.csv").write_text(export(), "utf-8")
    (folder / "access.log").write_text("".join(log()), "utf-8")
    (folder / "new-robots.txt").write_text(NEW_ROBOTS, "utf-8")
    (folder / "crawl.warc.gz").write_bytes(archive(site, ARCHIVED))
    built = folder / "build"
    _write_build(built, site, ())
    old = folder / "old.indrel"
    old.unlink(missing_ok=True)
    pipeline.gather(str(built), GatherOptions(crawlers=resolve(DEFAULT), base=START), old)
    pipeline.keep_intent(old, pipeline.load_intent(folder / DEFAULT_NAME))
    _write_build(built, site, ACCIDENT)


def _write_build(folder: Path, site: Site, hidden: Iterable[str]) -> None:
    """The pages of the huts as a generator would write them."""
    gone = {f"/huts/{name}/" for name in hidden}
    for path in PATHS:
        body = _alone(site.pages[f"https://{MAIN}{path}"].body)
        if path in gone:
            body = body.replace(b"</title>", b'</title>\n<meta name="robots" content="noindex">', 1)
        file = folder / path.strip("/") / "index.html"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(body)
    (folder / "robots.txt").write_text(f"User-agent: *\nDisallow:\nSitemap: {START}sitemap.xml\n", "utf-8")
    (folder / "sitemap.xml").write_bytes(sitemap([f"https://{MAIN}{path}" for path in PATHS]).body)


def _alone(body: bytes) -> bytes:
    """A page without what is not in the build: menu, files, and links to other sections."""
    lines = [
        line
        for line in body.split(b"\n")
        if not line.startswith((b"<header>", b"<footer>")) and b"/assets/" not in line
    ]
    return re.sub(
        rb'<a href="([^"]*)">(.*?)</a>', lambda m: m[0] if m[1].decode() in PATHS else m[2], b"\n".join(lines)
    )


def archive(site: Site, paths: Iterable[str]) -> bytes:
    """Responses of the site as a WARC file (ISO 28500)."""
    out = io.BytesIO()
    writer = WARCWriter(out, gzip=True)
    for path in paths:
        url = f"https://{MAIN}{path}"
        response = site.pages.get(url, Response(b"", 404))
        headers = [("Content-Type", response.media_type), *response.headers]
        record = writer.create_warc_record(
            url, "response", payload=io.BytesIO(response.body), length=len(response.body),
            http_headers=StatusAndHeaders(f"{response.status} OK", headers, protocol="HTTP/1.1"),
            warc_headers_dict={"WARC-Date": BEFORE},
        )  # fmt: skip
        writer.write_record(record)
    return out.getvalue()
