"""The HTML report in a real browser: filter, sort, show all; nothing of the site runs, nothing is asked for outside."""

from __future__ import annotations

import json
import re
import subprocess
import unicodedata
from pathlib import Path
from typing import Any

import pytest
from pypdf import PdfReader

from cases import BASE, HOST, NOINDEX, a, canonical, html, sitemap
from conftest import AuditSite, needed
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
Object.defineProperty(navigator, "clipboard", {value: {writeText: async (text) => { told.copied = text; }}});
const filter = document.getElementById("filter");
filter.value = "listed-hidden"; filter.dispatchEvent(new Event("input"));
told.cards = [...document.querySelectorAll(".cause")].filter((c) => !c.hidden).length;
const light = (name) => {
  const probe = document.createElement("i");
  probe.style.color = "var(" + name + ")";
  document.body.append(probe);
  const parts = getComputedStyle(probe).color.match(/[\\d.]+/g).slice(0, 3).map((v) => v / 255);
  probe.remove();
  const [r, g, b] = parts.map((v) => (v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4));
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
};
const contrast = (one, other) => (Math.max(light(one), light(other)) + 0.05) / (Math.min(light(one), light(other)) + 0.05);
told.dark = light("--paper") < 0.2;
told.faint = ["--ink", "--soft", "--link", "--stop", "--fix", "--ask", "--note"].filter((name) => contrast(name, "--paper") < 4.5);
const lookup = document.getElementById("lookup");
lookup.value = "TAG/07"; lookup.dispatchEvent(new Event("input"));
setTimeout(() => {
  told.looked = [...document.querySelectorAll("#matches details[open] summary")].map((s) => s.textContent).join();
  told.why = document.querySelector("#matches .inside").textContent.includes("noindex");
  box.querySelector(".tools button").click();
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
    return needed("chromium")


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
    assert not loaded and "default-src 'none'" in text and not re.search(r"url\((?!#)|@import", text)
    file = tmp_path / "page.html"
    file.write_text(text.replace("</body>", f"<script>{SCRIPT}</script></body>"))
    document, log = browse(chromium, file)
    found = re.search(r'<pre id="told">(.*?)</pre>', document, re.DOTALL)
    assert found, log[-2000:]
    told: dict[str, Any] = json.loads(found[1])
    expected = {
        "all": 14, "first": "/tag/13", "filtered": 1, "copied": f"{HOST}/tag/07", "cards": 1, "ran": "nothing", "wide": True,
        "dark": False, "faint": [], "looked": "/tag/07 hidden (noindex)", "why": True,
    }  # fmt: skip
    assert told == expected
    assert "CONSOLE" not in log, log
    narrow = browse(chromium, file, "--window-size=390,800")[0]
    assert '"wide":true' in narrow, "the page is wider than a phone"
    dark = browse(chromium, file, "--blink-settings=preferredColorScheme=0")[0]
    assert '"dark":true' in dark and '"faint":[]' in dark, "in the dark some text is hard to read"


def test_page_in_print(audit_site: AuditSite, chromium: str, tmp_path: Path) -> None:
    site, verdict = audit_site(SITE)
    (tmp_path / "page.html").write_bytes(page.render(verdict, site))
    browse(chromium, tmp_path / "page.html", f"--print-to-pdf={tmp_path}/page.pdf", "--no-pdf-header-footer")
    printed = " ".join(
        unicodedata.normalize(
            "NFKC", "".join(sheet.extract_text() for sheet in PdfReader(tmp_path / "page.pdf").pages)
        ).split()
    )
    mends = {" ".join(c.mend.replace("`", "").split()[:4]) for c in verdict.causes}
    assert [m for m in mends if m not in printed.replace("`", "")] == [], printed
    assert "Filter, sort, copy" not in printed and "Show only" not in printed


def test_page_without_findings(audit_site: AuditSite) -> None:
    text = page.render(audit_site(BASE)[1], audit_site(BASE)[0]).decode()
    assert f"<title>{HOST[8:]}: what search engines can index</title>" in text and "No findings." in text
