"""What machines read, held against its schemas: our own in docs/, and the one of SARIF 2.1.0."""

from __future__ import annotations

import copy
import json
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft4Validator, Draft202012Validator

from cases import BASE, HOST, NOINDEX, a, canonical, html, sitemap
from conftest import AuditSite, lines_of
from test_program import Run, write_site

SCHEMA = json.loads((Path(__file__).parents[1] / "docs/json-schema.json").read_text())
SARIF = json.loads((Path(__file__).parent / "data/sarif-2.1.0.json").read_text())
PAGES = {
    **BASE,
    "/": html(canonical("/"), a("/tag/a", "/tag/b", "/gone", "/shut") + "<script src=/shut/x.js></script>"),
    "/tag/a": html(NOINDEX),
    "/tag/b": html(NOINDEX),
    "/robots.txt": f"User-agent: *\nDisallow: /shut\nSitemap: {HOST}/sitemap.xml\n",
    "/sitemap.xml": sitemap("/", "/tag/a", "/tag/b", "/shut", "https://huts-template.test/"),
}


def strict(schema: Any) -> Any:
    """The schema with no key allowed that it does not name: nothing may be written that is not published."""
    if isinstance(schema, dict):
        found = {k: strict(v) for k, v in schema.items()}
        return {**found, "additionalProperties": False} if "properties" in found else found
    return [strict(v) for v in schema] if isinstance(schema, list) else schema


def problems(document: Any, name: str | None = None) -> list[str]:
    schema = strict(SCHEMA)
    if name:
        schema = {"$ref": f"#/$defs/{name}", "$defs": schema["$defs"]}
    return [f"{e.json_path}: {e.message[:200]}" for e in Draft202012Validator(schema).iter_errors(document)]


def test_schemas_hold_themselves() -> None:
    Draft202012Validator.check_schema(SCHEMA)
    Draft4Validator.check_schema(SARIF)
    broken: dict[str, Any] = {"url": "x", "crawler": "*", "allowed": "yes", "rule": None, "line": 0, "group": None}
    assert problems(broken, "match") == ["$.allowed: 'yes' is not of type 'boolean'"]


def test_every_json_is_as_published(indrel: Run, audit_site: AuditSite, tmp_path: Path) -> None:
    site, _ = audit_site(PAGES)
    one = tmp_path / "one.indrel"
    one.write_bytes(Path(site.snapshot.path).read_bytes())
    (tmp_path / "two.toml").write_text(
        '[[want]]\nmatch = "/tag/*"\nwant = "hide"\n[[accept]]\ncheck = "link-to-gone"\nbecause = "soon"\n'
    )

    def run(*arguments: object) -> list[dict[str, Any]]:
        return lines_of(indrel(*arguments, "--json", "-q").stdout)

    def whole(*arguments: object) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(indrel(*arguments, "--json", "-q").stdout)
        return found

    first = whole("audit", one, "--intent", "two.toml", "--baseline", one)
    assert (
        first["findings"]
        and first["link_flow"]
        and first["sitemaps"]
        and any("accepted" in f for f in first["findings"])
    )
    assert problems(first) == []
    rows = run("list", one)
    assert len(rows) == 5 and [p for row in rows for p in problems(row, "row")] == []
    for path in ("/tag/a", "/shut", "/never-heard-of"):
        assert problems(whole("explain", path, "--from", one), "explanation") == []
    (tmp_path / "robots.txt").write_text("User-agent: *\nDisalow: /x\nDisallow: /shut\n")
    (tmp_path / "sitemap.xml").write_text(sitemap("/", "/tag/a", "bad address"))
    assert [p for row in run("robots", "match", "robots.txt", "/a", "/shut") for p in problems(row, "match")] == []
    for what in ("robots", "sitemap"):
        found = whole(what, "check", f"{what}.txt" if what == "robots" else "sitemap.xml", "--from", one)
        assert found["findings"] and problems({"findings": found["findings"]}, "findings") == []
    changed = {**PAGES, "/tag/a": html(canonical("/tag/b")), "/robots.txt": "User-agent: *\nDisallow: /tag/b\n"}
    later, _ = audit_site(changed)
    compared = whole("compare", one, later.snapshot.path)
    assert compared["edits"] and compared["rules"] and compared["directives"] and problems(compared, "comparison") == []


def test_the_answers_of_the_desk_are_as_published(indrel: Run, audit_site: AuditSite, tmp_path: Path) -> None:
    (tmp_path / "indrel-runs").mkdir()
    for number, pages in enumerate((PAGES, {**PAGES, "/tag/a": html()}), 1):
        kept = audit_site(pages)[0].snapshot.path
        (tmp_path / f"indrel-runs/www.sarnfell.example-2026110{number}T080000Z.indrel").write_bytes(
            Path(kept).read_bytes()
        )
    (tmp_path / "indrel.toml").write_text('[[want]]\nmatch = "/tag/*"\nwant = "show"\n')
    (tmp_path / "new.txt").write_text("User-agent: *\nDisallow: /tag/\n")
    (tmp_path / "t.csv").write_text(f"URL,Indexed,Reason\n{HOST}/tag/b,yes,\n{HOST}/,no,Later\n{HOST}/new,yes,\n")
    (tmp_path / "a.log").write_text(
        '1.2.3.4 - - [20/Nov/2026:10:00:00 +0000] "GET /shut HTTP/1.1" 200 5 "-" "Googlebot/2.1"\n' * 2
    )
    for words, name in (
        (("history",), "history"), (("reconcile", "t.csv"), "reconciled"), (("reconcile", "a.log"), "log"),
        (("robots", "impact", "snapshot", "new.txt"), "impact"), (("ledger", "request", "/tag/a"), "ledger_request"),
        (("ledger", "status"), "ledger_status"), (("intent", "show", "/tag/a", "/"), "intent_shown"),
        (("intent", "check"), "intent_checked"), (("list", "--group-by", "kind"), "group"),
    ):  # fmt: skip
        done = indrel(*words, "--json")
        documents = (
            [json.loads(done.stdout)]
            if done.stdout.count("\n") == 1 or done.stdout.startswith("{\n")
            else lines_of(done.stdout)
        )
        assert documents and [p for one in documents for p in problems(one, name)] == [], words
    indrel("draft", "tickets", "-o", "t.json", code=0)
    tickets = json.loads((tmp_path / "t.json").read_text())
    assert tickets and [p for one in tickets for p in problems(one, "ticket")] == []


def test_json_lines_without_findings(audit_site: AuditSite, indrel: Run) -> None:
    site, _ = audit_site(BASE)
    assert problems(json.loads(indrel("audit", site.snapshot.path, "--json", "-q", code=0).stdout)) == []


@pytest.mark.parametrize("kind", ["site", "folder"])
def test_sarif_is_valid(kind: str, indrel: Run, audit_site: AuditSite, tmp_path: Path) -> None:
    if kind == "site":
        source = audit_site(PAGES)[0].snapshot.path
    else:
        source = tmp_path / "b"
        write_site(
            source, {"index.html": html(body=a("/gone", "/ü x.html")), "ü x.html": html(NOINDEX + canonical("/q"))}
        )
    indrel("audit", source, "-o", "x.sarif", "-q", "--fail-on", "never")
    document = json.loads((tmp_path / "x.sarif").read_text())
    assert document["runs"][0]["results"]
    assert [f"{e.json_path}: {e.message[:200]}" for e in Draft4Validator(SARIF).iter_errors(document)] == []
    wrong = copy.deepcopy(document)
    wrong["runs"][0]["results"][0]["level"] = "severe"
    assert [e.json_path for e in Draft4Validator(SARIF).iter_errors(wrong)] == ["$.runs[0].results[0].level"]
