"""The catalogue: each check fires where it should, stays quiet where it should, and is documented."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from cases import CASES, HOST, Case
from conftest import AuditSite
from indrel.checks import checks, judge
from indrel.checks.catalogue import check
from indrel.core.model import CheckClass, Severity
from indrel.reports.checks_page import render

ROOT = Path(__file__).parent.parent


@pytest.mark.parametrize(("id", "case"), CASES.items(), ids=list(CASES))
def test_fires_and_stays_quiet(id: str, case: Case, audit_site: AuditSite) -> None:
    options: dict[str, Any] = {"crawlers": case.crawlers, **case.options}
    _, verdict = audit_site(case.fires, case.missing, **options)
    assert not verdict.crashed
    found = [f for f in verdict.findings if f.check == id]
    assert sorted(f.url for f in found) == sorted(HOST + p for p in case.at)
    for finding in found:
        assert finding.evidence and finding.message and finding.crawlers and finding.cause
        assert finding.severity.word == (case.severity or finding.severity.word)
    _, calm = audit_site({**case.fires, **case.calm}, None, **options)
    assert not calm.crashed
    assert id not in {f.check for f in calm.findings} | {s.check for s in calm.skipped}


def test_every_check_has_a_case() -> None:
    assert set(CASES) == set(checks())


def test_catalogue_refuses_bad_registrations() -> None:
    def undocumented(site: object) -> Any:
        """Only a summary."""

    with pytest.raises(ValueError, match="lacks Why"):
        check("new-check", CheckClass.FLAW, Severity.NOTE)(undocumented)
    with pytest.raises(ValueError, match="registered twice"):
        check("site-barred", CheckClass.FLAW, Severity.NOTE)(undocumented)


def test_a_crashing_check_is_reported(audit_site: AuditSite, monkeypatch: pytest.MonkeyPatch) -> None:
    site, before = audit_site(CASES["listed-gone"].fires)
    one = checks()["listed-gone"]

    def crash(_: object) -> Any:
        raise RuntimeError("no")

    monkeypatch.setitem(checks(), "listed-gone", replace(one, run=crash))
    after = judge(site)
    assert [c.check for c in after.crashed] == ["listed-gone"]
    assert {f.check for f in before.findings} - {f.check for f in after.findings} == {"listed-gone"}


def test_documentation_is_the_catalogue() -> None:
    assert (ROOT / "docs" / "checks.md").read_text("utf-8") == render(checks().values()), (
        "run: python -m indrel.reports.checks_page"
    )


def test_precedence_of_rows(audit_site: AuditSite) -> None:
    """Where several rows would report one fact, the more specific speaks alone."""
    barred = {
        **CASES["listed-barred"].fires,
        "/robots.txt": f"User-agent: *\nDisallow: /\nSitemap: {HOST}/sitemap.xml\n",
    }
    assert {f.check for f in audit_site(barred)[1].findings} & {"site-barred", "listed-barred", "barred-wanted"} == {
        "site-barred"
    }
    hidden = {**CASES["site-noindex"].fires}
    assert {f.check for f in audit_site(hidden)[1].findings} & {"site-noindex", "listed-hidden"} == {"site-noindex"}


def test_crawlers_differ(audit_site: AuditSite) -> None:
    """A finding names the crawlers for which it holds, and only those."""
    robots = f"User-agent: bingbot\nDisallow: /a\nUser-agent: *\nDisallow:\nSitemap: {HOST}/sitemap.xml\n"
    _, verdict = audit_site(
        {
            **CASES["listed-barred"].fires,
            "/robots.txt": robots,
            "/sitemap.xml": CASES["listed-gone"].fires["/sitemap.xml"],
        }
    )
    found = [f for f in verdict.findings if f.check == "listed-barred"]
    assert [f.crawlers for f in found] == [("bingbot",)]
    assert found[0].evidence[0].line == 2 and verdict.states["bingbot"]["barred"] == 1
