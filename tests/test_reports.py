"""Reports: the contract's JSON, CSV that no spreadsheet runs, terminals that no site can drive."""

from __future__ import annotations

import csv
import io
import json
import re
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import quote
from xml.etree import ElementTree

import openpyxl
import pytest
from rich.console import Console

from cases import BASE, HOST, NOINDEX, a, canonical, html, moved, robots, sitemap
from conftest import AuditSite
from indrel import reports
from indrel.ask.addresses import columns_of, listed, values
from indrel.base.errors import UsageError
from indrel.base.files import write_whole
from indrel.base.plain import clip, disarm, field, safe, width
from indrel.checks import judge
from indrel.checks.causes import gather_causes
from indrel.core.model import CheckClass, Evidence, Finding, Severity, listing, plural
from indrel.reports import csv_table, figures, json_doc, markdown, page, panels, workbook
from indrel.reports.columns import table
from indrel.reports.terminal import Terminal, sentence, states_shown

PAGES = {
    **BASE,
    "/": html(body=a("/tag/a", "/tag/b", "/gone")),
    "/tag/a": html(NOINDEX),
    "/tag/b": html(NOINDEX),
    "/sitemap.xml": sitemap("/", "/tag/a", "/tag/b"),
}


def test_json_is_the_contract(audit_site: AuditSite) -> None:
    site, verdict = audit_site(PAGES)
    doc = json.loads(b"".join(json_doc.render(verdict, site)))
    assert list(doc)[:13] == [
        "indrel", "schema", "source", "complete", "incomplete_because", "verdict", "crawlers", "counts", "skipped_checks",
        "causes", "findings", "crawler_matrix", "sitemaps",
    ]  # fmt: skip
    assert doc["verdict"] == {
        "sentence": doc["verdict"]["sentence"], "wanted": 3, "lost": 2, "exposed": 0, "conflicts": 2, "faults": 1,
    }  # fmt: skip
    assert doc["schema"] == 1 and doc["source"]["kind"] == "site" and doc["source"]["location"] == HOST + "/"
    assert doc["source"]["started"].endswith("Z") and doc["source"]["finished"] >= doc["source"]["started"]
    assert doc["counts"]["states"]["*"] == {"gone": 1, "hidden": 2, "open": 1} and doc["counts"]["addresses"] == 4
    cause = doc["causes"][0]
    assert set(cause) >= {"id", "rank", "relation", "check", "class", "severity", "section", "count", "summary", "mend"}
    assert (cause["rank"], cause["check"], cause["class"], cause["severity"]) == (1, "listed-hidden", "conflict", "fix")
    assert (cause["section"], cause["count"]) == ("/tag/*", 2)
    finding = doc["findings"][0]
    assert set(finding) == {"check", "class", "severity", "url", "crawlers", "cause", "follows", "message", "evidence"}
    assert set(finding["evidence"][0]) == {"kind", "where", "line", "text"}
    assert (
        doc["counts"]["findings"] == {"stop": 0, "fix": 3, "ask": 0, "note": 1} and doc["counts"]["consequences"] == 0
    )


def finding(url: str, text: str, severity: Severity = Severity.FIX, check: str = "listed-hidden") -> Finding:
    evidence = (Evidence("tag", url, 1, text),)
    return Finding(check, CheckClass.CONFLICT, severity, url, ("*",), "says noindex", evidence, section="/x/*")


def test_causes_gather_by_first_evidence() -> None:
    found = [finding(f"{HOST}/x/{n}", "A" if n % 3 else "B") for n in range(9)]
    found += [
        finding(f"{HOST}/x/0", "A", Severity.STOP, "site-noindex"),
        finding(f"{HOST}/x/1", "A", Severity.NOTE, "robots-missing"),
    ]
    marked, causes = gather_causes(found)
    assert [(c.rank, c.check, c.count) for c in causes] == [
        (1, "site-noindex", 1), (2, "listed-hidden", 6), (3, "listed-hidden", 3), (4, "robots-missing", 1),
    ]  # fmt: skip
    ids = [c.id for c in causes]
    assert [f.cause for f in marked] == [ids[0], *[ids[1]] * 6, *[ids[2]] * 3, ids[3]] and len(set(ids)) == 4
    assert gather_causes(list(reversed(found)))[0] == marked


def file_of(path: str) -> str:
    return path[1:] + "index.html" * path.endswith("/")


def test_one_line_of_a_template_is_one_cause() -> None:
    """A line that prints each page's own address, slug, number or date is one place to edit, whatever sections it reaches."""
    pages = [
        "/",
        "/about.html",
        "/library/html.html",
        "/c-api/file.html",
        "/news/2026/11/",
        "/huts/over-sarn/",
        "/python/",
    ]
    for line in (
        '<link rel="canonical" href="file:///usr/share/doc/python3.11/html{path}">', '<meta name="robots" content="no-index">',
        '<link rel="canonical" href="http://old.test{path}">', '<link rel="canonical" href="{url}">',
        '<link rel="canonical" href="file:///doc/{file}">',
    ):  # fmt: skip
        found = [
            replace(
                finding(HOST + p, line.format(path=p, url=HOST + p, file=file_of(p))), section=f"/{p.split('/')[1]}/*"
            )
            for p in pages
        ]
        built = [  # the same in a folder, where evidence names the file
            replace(f, evidence=(f.evidence[0]._replace(where=file_of(p)),)) for f, p in zip(found, pages, strict=True)
        ]
        for causes in (gather_causes(found)[1], gather_causes(built)[1]):
            assert [c.count for c in causes] == [len(pages)] and len(causes[0].sections) == len(pages), (line, causes)
    dated = [
        finding(f"{HOST}/{n}", f'<meta name="robots" content="unavailable_after: {n} Jan 2020 10:0{n}:00 GMT">')
        for n in range(3)
    ]
    assert len(gather_causes(dated)[1]) == 1
    rules = [Evidence("robots", HOST + "/robots.txt", n, "Disallow: /x") for n in (2, 9)]
    listed = [Evidence("sitemap", f"{HOST}/{n}.xml", 5, f"<loc>{n}</loc>") for n in (1, 1, 2)]
    apart = [replace(finding(f"{HOST}/{n}", ""), evidence=(e,)) for n, e in enumerate([*rules, *listed])]
    assert sorted(c.count for c in gather_causes(apart)[1]) == [1, 2, 2]  # a rule that stands twice is one
    leads = [finding(f"{HOST}/{n}", f'<meta http-equiv="refresh" content="0;URL=../{n}/end.html">') for n in "abc"]
    assert len(gather_causes(leads)[1]) == 1, "where a refresh leads is each page's own"
    variants = [
        replace(
            finding(f"{HOST}/{url}", ""), cls=CheckClass.EXPOSED, evidence=(Evidence("status", url, None, "200 OK"),)
        )
        for url in ("q?a=1&sort=x", "q?sort=y", "r?Sort=z&b=2&utm_source=n", "q?a=1&b=2", "q?b=&a=3", "q?s=hut&a=1")
    ]
    assert sorted(c.count for c in gather_causes(variants)[1]) == [1, 2, 3], (
        "one parameter tells, whatever stands beside it"
    )


@pytest.mark.parametrize(
    ("text", "expected"),
    [("=1+1", "'=1+1"), ("+cmd", "'+cmd"), ("-2", "'-2"), ("@x", "'@x"), ("\tx", "'\tx"), ("a=1", "a=1"), ("", "")],
)
def test_formulas_are_disarmed(text: str, expected: str) -> None:
    assert disarm(text) == expected


def test_a_cell_drives_no_terminal() -> None:
    assert field("\x1b]0;x\x07\u202e\n") == "\\x1b]0;x\\x07\\u202e " and field("\t=1") == "' =1"


def test_csv_opens_as_text(audit_site: AuditSite) -> None:
    pages = {
        **BASE,
        "/": html(body=a("/a")),
        "/a": html('<meta name="robots" content="=HYPERLINK(1), \'x\'">', title="=1"),
    }
    site, verdict = audit_site(pages)
    rows = list(csv.DictReader(io.StringIO(b"".join(csv_table.render(verdict, site)).decode())))
    assert [r["check"] for r in rows][:1] == ["robots-token-slip"]
    assert not any(value.startswith(("=", "+", "-", "@")) for r in rows for value in r.values())


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("plain ü 한", "plain ü 한"),
        ("\x1b[31mred\x07", "\\x1b[31mred\\x07"),
        ("<a href='/'\r\n\t  class=x>\x9b", "<a href='/' class=x>\\x9b"),
        ("left\u202eright\u2066", "left\\u202eright\\u2066"),
        ("\ud800", "\\ud800"),
    ],
)
def test_terminal_texts_are_safe(text: str, expected: str) -> None:
    assert safe(text) == expected


def test_widths() -> None:
    assert (width("abc"), width("한글"), width("e\u0301")) == (3, 4, 1)
    assert clip("abcdef", 4) == "abc…" and clip("한글한글", 5) == "한글…" and clip("abc", 3) == "abc"
    assert plural(1, "address") == "1 address" and plural(2_000, "address") == "2,000 addresses"
    assert (listing(["a"]), listing(["a", "b", "c"], "or")) == ("a", "a, b or c")
    assert states_shown({"a": "open", "b": "hidden", "c": "open"}) == "open; hidden: b"


def drawn(columns: int, draw: Any) -> list[str]:
    out = io.StringIO()
    draw(Terminal(Console(file=out, width=columns, no_color=True, markup=False, highlight=False, force_terminal=True)))
    return out.getvalue().splitlines()


@pytest.mark.parametrize("columns", [60, 80, 100, 200])
def test_everything_fits_the_terminal(columns: int, audit_site: AuditSite) -> None:
    long = f"/tag/{'long-' * 60}"
    site, verdict = audit_site(
        {**PAGES, "/": html(body=a("/tag/a", long)), "/sitemap.xml": sitemap("/", "/tag/a", long)}
    )
    lines = drawn(columns, lambda t: t.verdict(verdict, site.base_origin, True))
    lines = [re.sub(r"\x1b\[[\d;]*m", "", line) for line in lines]
    assert re.match(r"www.sarnfell.example, \d{4}-\d\d-\d\d \d\d:\d\d UTC: ", lines[0]) and sentence(
        verdict
    ).startswith(lines[0][:50])
    assert all(width(line) <= min(columns, 140) for line in lines)
    rows = drawn(columns, lambda t: table(t, ["address", "state"], [[long, "hidden"], ["/a", "open"]]))
    rows = [re.sub(r"\x1b\[[\d;]*m", "", row) for row in rows]
    assert all(width(row) <= columns for row in rows) and rows[-1].split() == ["/a", "open"]
    assert "".join(row.split()[0] for row in rows[1:-1]) == long, "nothing is cut: it goes on below"


def test_nothing_to_fix_is_said(audit_site: AuditSite) -> None:
    verdict = audit_site(BASE)[1]
    assert sentence(verdict).endswith(" UTC: The only wanted page can be indexed. Nothing to fix.")


def test_reports_are_whole_or_not_there(audit_site: AuditSite, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site, _ = audit_site(BASE)
    target = tmp_path / "x.json"
    target.write_text("before")
    monkeypatch.setitem(reports.WRITERS, ".json", lambda verdict, _: 1 / 0)  # type: ignore[arg-type, return-value]
    with pytest.raises(ZeroDivisionError):
        reports.write([target], judge(site), site)
    assert target.read_text() == "before" and [p.name for p in tmp_path.iterdir() if p.name.startswith(".")] == []
    with pytest.raises(UsageError, match="cannot be written"):
        write_whole(tmp_path / "no" / "x.csv", b"")


HOSTILE = {
    **BASE,
    "/": html(canonical("/"), a("/=1+1", "/x")),
    "/=1+1": html(
        '<meta name="robots" content="=cmd|x, `a` <script>alert(1)</script> [l](javascript:x)\x1b[31m">', title="=1"
    ),
    "/x": html(NOINDEX),
}


def test_markdown_holds_no_markup_of_the_site(audit_site: AuditSite) -> None:
    site, verdict = audit_site(HOSTILE)
    lines = markdown.render(verdict, site).decode().splitlines()
    assert lines[0].startswith("# `www.sarnfell.example`, ") and any(line.startswith("**Fix:** ") for line in lines)
    outside = re.sub(r"(`+)(?!`).*?(?<!`)\1(?!`)", "", re.sub(r"\\\\.", "", "\n".join(lines)))
    assert "<script" not in outside and "](" not in outside and "\x1b" not in "".join(lines)
    assert markdown.code("a`b``c") == "```a`b``c```" and markdown.prose("no `a<b` here <i>") == "no `a<b` here \\<i\\>"


def test_columns_say_what_rows_say(audit_site: AuditSite) -> None:
    """The columns come from the database, rows are made here: they tell the same, and texts of the site are disarmed."""
    site, _ = audit_site({**HOSTILE, "/gone": moved("/x"), "/x": html(NOINDEX + NOINDEX, a("/gone", "/=1+1"))})
    told = [row for rows in values(site, columns_of(["*"])) for row in rows]
    for row, columns in zip(listed(site), told, strict=True):
        parts = [[b.kind for b in row.by], [b.place for b in row.by], [b.text for b in row.by]]
        by, where, text = (field("; ".join(dict.fromkeys(part))) for part in parts)
        assert [v or "" for v in columns] == [
            row.url, row.kind, field(row.section), row.want, "yes" if row.stated else "no", row.states["*"], row.status or "",
            field(row.folds_into or ""), row.clicks or "", by, where, text, " ".join(row.checks), "yes" if row.listed else "no",
            row.followed or "", row.unfollowed or "", row.kind_because, row.rendered or "",
        ]  # fmt: skip
    assert {"tag", "redirect"} <= {row[9] for row in told}


def test_spreadsheet_opens_with_texts_that_are_texts(audit_site: AuditSite) -> None:
    site, verdict = audit_site(HOSTILE)
    book = openpyxl.load_workbook(io.BytesIO(workbook.render(verdict, site)))
    assert book.sheetnames == ["Overview", "Causes", "Findings", "URLs", "Sitemap entries"]
    assert (
        all(sheet.freeze_panes == "A2" for sheet in book)
        and book["Findings"].auto_filter.ref == f"A1:N{len(verdict.findings) + 1}"
    )
    linked = book["Findings"].cell(2, 6)
    assert linked.hyperlink.target == linked.value == verdict.findings[0].url
    for number, cause in enumerate(verdict.causes, 2):
        there = book["Causes"].cell(number, 1).hyperlink.location.partition("!A")
        assert there[0] == "Findings" and book["Findings"].cell(int(there[2]), 4).value == cause.id
        assert book["Findings"].cell(int(there[2]), 4).hyperlink.location == f"Causes!A{number}"
    cells = [c for sheet in book for row in sheet.iter_rows() for c in row]
    assert not [c.value for c in cells if c.data_type == "f" or str(c.value).startswith(("=", "@"))]
    assert [c.value for c in book["URLs"]["A"]][1:] == [HOST + p for p in ("/", "/=1+1", "/x")]
    assert workbook.cell("a\x00b\uffff") == "a\\x00b\ufffd" and workbook.cell(3) == 3


def test_sarif_names_files_and_lines(indrel: Any, tmp_path: Path) -> None:
    (tmp_path / "b").mkdir()
    (tmp_path / "b/index.html").write_text(html(canonical("/"), a("/p q.html")))
    (tmp_path / "b/p q.html").write_text(html('<meta name="robots" content="no-index">'))
    (tmp_path / "indrel.toml").write_text('[[accept]]\ncheck = "canonical-none"\nbecause = "small"\n')
    indrel("audit", "b", "-o", "x.sarif", "-o", "x.md", "-o", "x.xlsx", code=1)
    doc = json.loads((tmp_path / "x.sarif").read_text())
    run = doc["runs"][0]
    assert doc["version"] == "2.1.0" and run["tool"]["driver"]["name"] == "Indrel"
    result = next(r for r in run["results"] if r["ruleId"] == "robots-token-slip")
    place = result["locations"][0]["physicalLocation"]
    assert (
        place["artifactLocation"] == {"uri": "b/p%20q.html", "uriBaseId": "%SRCROOT%"}
        and place["region"]["startLine"] == 2
    )
    assert (result["level"], run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"]) == (
        "error",
        "robots-token-slip",
    )
    assert [r["suppressions"][0]["justification"] for r in run["results"] if r["ruleId"] == "canonical-none"] == [
        "small"
    ]
    assert "originalUriBaseIds" not in run and (tmp_path / "x.xlsx").stat().st_size > 4_000
    indrel("audit", tmp_path / "b", "-o", "y.sarif", code=1)
    whole = json.loads((tmp_path / "y.sarif").read_text())["runs"][0]
    assert whole["originalUriBaseIds"]["FOLDER"]["uri"] == (tmp_path / "b").as_uri() + "/"


def test_figures_draw_what_a_site_says_as_text(audit_site: AuditSite) -> None:
    names = ["$x^$", "<script>alert(1)</script>", "\u202eleft", "한글"]
    pages = {**BASE, "/": html(body=a(*(f"/{quote(n)}/{k}" for n in names for k in "ab")))}
    pages |= {f"/{quote(names[0])}/{k}": html(NOINDEX) for k in "ab"} | {"/sitemap.xml": sitemap("/", "/gone")}
    site, verdict = audit_site(pages)
    shown = {panel.name: panel.says for panel in panels.panels(site)}
    assert shown == {
        "sections": "least open is /%24x%5E%24/*: 2 of 2 are not", "sitemaps": "1 of 2 entries cannot be indexed",
        "depth": "every open page within 3 clicks",
    }  # fmt: skip
    little = audit_site({"/": html(), "/robots.txt": robots()})
    assert not panels.panels(little[0]) and b"www.sarnfell.example" in figures.render_svg(little[1], little[0])
    svg, png = figures.render_svg(verdict, site), figures.render_png(verdict, site)
    assert ElementTree.fromstring(svg).tag == "{http://www.w3.org/2000/svg}svg" and png.startswith(b"\x89PNG")
    assert svg == figures.render_svg(verdict, site) and png == figures.render_png(verdict, site)
    drawn = page.render(verdict, site).decode().partition('id="sections"')[2]
    assert (
        "<script>alert" not in drawn and "\u202e" not in drawn and '<span class="s-hidden" style="flex-grow:2"' in drawn
    )
    style = (Path(page.__file__).parent / "page.css").read_text()
    assert all(f"--{state}:{hue};" in style for state, hue in figures.COLOURS.items())


def test_help_names_every_ending(indrel: Any) -> None:
    told = " ".join(indrel("report", "--help").stdout.split())
    assert " ".join(reports.WRITERS) in told
