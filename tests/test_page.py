"""The HTML report in a real browser: filter, sort, show all; nothing of the site runs, nothing is asked for outside."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, HOST, NOINDEX, a, canonical, html, sitemap
from conftest import AuditSite
from indrel.reports import page

EVIL = "<script>window.ran=1</script><img src=x onerror='window.ran=1'>\u202e\"'" + "x" * 10_000
PAGES = [f"/tag/{n:02}" for n in range(14)]
SITE = {
    **BASE,
    "/": html(canonical("/"), a(*PAGES, "/evil"), title=EVIL),
    "/sitemap.xml": sitemap("/", *PAGES),
    **{p: html(NOINDEX, title=p) for p in PAGES},
    "/evil": html('<meta name="robots" content="no-index, &lt;script>window.ran=1&lt;/script>">', title=EVIL),
}
SCRIPT = """
const told = {};
const box = document.querySelector(".rows[data-more]");
box.closest("details").open = true;
box.querySelector("button.all").click();
told.all = box.querySelectorAll("tbody tr").length;
const sort = box.querySelector("th button");
sort.click(); sort.click();
told.first = box.querySelector("tbody td").textContent;
const input = box.querySelector("input");
input.value = "tag/07"; input.dispatchEvent(new Event("input"));
const filter = document.getElementById("filter");
filter.value = "listed-hidden"; filter.dispatchEvent(new Event("input"));
told.cards = [...document.querySelectorAll(".cause")].filter((c) => !c.hidden).length;
setTimeout(() => {
  told.filtered = box.querySelectorAll("tbody tr").length;
  told.ran = window.ran === undefined ? "nothing" : "something";
  told.wide = document.documentElement.scrollWidth <= document.documentElement.clientWidth;
  const out = document.createElement("pre");
  out.id = "told"; out.textContent = JSON.stringify(told);
  document.body.append(out);
}, 400);
"""


@pytest.fixture(scope="module")
def chromium() -> str:
    found = shutil.which("chromium") or shutil.which("chromium-browser")
    assert found, "this test needs Chromium (Debian: apt-get install chromium)"
    return found


def browse(chromium: str, file: Path, *more: str) -> tuple[str, str]:
    """The page's document after its scripts ran, and what the browser logged."""
    done = subprocess.run(
        [chromium, "--headless", "--no-sandbox", "--disable-gpu", "--enable-logging=stderr", "--virtual-time-budget=4000",
         f"--user-data-dir={file.parent}/profile", *more, "--dump-dom", file.as_uri()],
        capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    return done.stdout, done.stderr


def test_page_in_a_browser(audit_site: AuditSite, chromium: str, tmp_path: Path) -> None:
    site, verdict = audit_site(SITE)
    text = page.render(verdict, site).decode()
    assert "\u202e" not in text and "<script>window.ran" not in text
    loaded = re.findall(r"<(?:script|img|link|iframe|source|object)[^>]*\b(?:src|href|data)=", text)
    assert not loaded and "default-src 'none'" in text and not re.search(r"url\(|@import", text)
    file = tmp_path / "page.html"
    file.write_text(text.replace("</body>", f"<script>{SCRIPT}</script></body>"))
    document, log = browse(chromium, file)
    found = re.search(r'<pre id="told">(.*?)</pre>', document, re.DOTALL)
    assert found, log[-2000:]
    told: dict[str, Any] = json.loads(found[1])
    assert told == {"all": 14, "first": "/tag/13", "filtered": 1, "cards": 1, "ran": "nothing", "wide": True}
    assert "CONSOLE" not in log, log
    narrow = browse(chromium, file, "--window-size=390,800")[0]
    assert '"wide":true' in narrow, "the page is wider than a phone"


def test_page_without_findings(audit_site: AuditSite) -> None:
    text = page.render(audit_site(BASE)[1], audit_site(BASE)[0]).decode()
    assert f"<title>{HOST[8:]}: what crawlers may fetch and list</title>" in text and "Nothing was found." in text
