"""The catalogue: each check fires where it should, stays quiet where it should, and is documented."""

from __future__ import annotations

import signal
from dataclasses import replace
from pathlib import Path
from typing import Any

import duckdb
import pytest

from cases import CASES, HOST, NOINDEX, Case, canonical
from conftest import AuditSite
from indrel.base.errors import Interrupted
from indrel.checks import checks, judge
from indrel.checks.catalogue import Follows, check
from indrel.checks.run import why_skipped
from indrel.core.model import CheckClass, Severity
from indrel.reports.checks_page import render

ROOT = Path(__file__).parent.parent


# The first evidence of each check: the directive or rule that does it, where it stands, what it says.
FIRST: dict[str, tuple[str, int | None, str]] = {
    "site-barred": ("robots", 2, "Disallow: /"),
    "robots-unreachable": ("status", None, "503 Service Unavailable"),
    "robots-is-page": ("robots", 1, "<!doctype html><html><head><title>Hut</title>"),
    "robots-missing": ("status", None, "404 Not Found"),
    "robots-orphan-rule": ("robots", 1, "Disallow: /x"),
    "robots-redirects": ("status", None, "redirect"),
    "robots-unsupported-field": ("robots", 2, "Crawl-delay: 5"),
    "robots-bad-path": ("robots", 2, "Disallow: private/"),
    "robots-anchor-slip": ("robots", 2, "Disallow: /a$b"),
    "robots-empty-agent": ("robots", 2, "User-agent: 99"),
    "robots-split-group": ("robots", 1, "User-agent: *"),
    "robots-group-replaces-all": ("robots", 3, "User-agent: bingbot"),
    "robots-rule-never-wins": ("robots", 2, "Disallow: /a"),
    "robots-rule-unused": ("robots", 2, "Disallow: /nothing/"),
    "robots-case-slip": ("robots", 2, "Disallow: /HUTS/"),
    "robots-overreach": ("robots", 2, "Disallow: /news"),
    "robots-foreign-sitemap": ("robots", 2, "Sitemap: /sitemap.xml"),
    "robots-tells-secrets": ("robots", 2, "Disallow: /old/backup-2025/"),
    "barred-wanted": ("robots", 2, "Disallow: /p/"),
    "barred-noindex": ("robots", 2, "Disallow: /p/"),
    "barred-canonical": ("robots", 2, "Disallow: /p/"),
    "barred-to-hide": ("robots", 2, "Disallow: /search"),
    "listed-barred": ("robots", 2, "Disallow: /p/"),
    "site-noindex": ("tag", 2, NOINDEX),
    "noindex-wanted": ("tag", 2, NOINDEX),
    "noindex-partial": ("tag", 2, '<meta name="Googlebot" content="none">'),
    "robots-self-contradicts": ("tag", 2, '<meta name="robots" content="all, none">'),
    "robots-tag-in-body": ("tag", 2, NOINDEX),
    "robots-token-slip": ("tag", 2, '<meta name="robots" content="no-index">'),
    "robots-header-slip": ("header", None, "X-Robots-Tag: unavailable_after: soon"),
    "noindex-on-answer": ("tag", 3, NOINDEX),
    "missing-answers-200": ("status", None, "200 OK"),
    "canonical-several": ("canonical", 2, canonical("/b")),
    "canonical-in-body": ("canonical", 2, canonical("/b")),
    "canonical-to-gone": ("canonical", 2, canonical("/b")),
    "canonical-to-broken": ("canonical", 2, canonical("/b")),
    "canonical-to-redirect": ("canonical", 2, canonical("/b")),
    "canonical-to-hidden": ("canonical", 2, canonical("/b")),
    "canonical-to-barred": ("canonical", 2, canonical("/b")),
    "canonical-and-noindex": ("tag", 2, NOINDEX),
    "only-nofollow-path": ("link", 3, '<a href="/a" rel=nofollow>'),
    "link-to-gone": ("status", None, "404 Not Found"),
    "sitemap-repeat": ("sitemap", 1, f"<loc>{HOST}/b</loc>"),
    "listed-hidden": ("tag", 2, NOINDEX),
    "listed-folded": ("canonical", 2, canonical("/b")),
    "listed-redirects": ("status", None, "301 Moved Permanently"),
    "listed-gone": ("status", None, "410 Gone"),
    "listed-broken": ("status", None, "500 Internal Server Error"),
    "listed-locked": ("status", None, "403 Forbidden"),
    "script-changes-robots": ("rendered", None, '<meta name="robots" content="noindex">'),
    "script-changes-canonical": ("rendered", None, '<link rel="canonical" href="/b">'),
    "script-leads-away": ("rendered", None, f"a script leads to {HOST}/b"),
    "script-needs-visit": ("status", None, "404 Not Found"),
    "content-needs-scroll": ("rendered", None, '<a href="/p1"></a>'),
    "render-broken": ("robots", 2, "Disallow: /board"),
    "links-to-closed-host": ("link", 3, '<a href="http://localhost:8000/0">'),
    "host-variants-serve": ("status", None, "200 OK, no redirect"),
    "gone-to-start": ("status", None, "301 Moved Permanently"),
    "link-outside-base": ("link", 3, '<a href="/b">'),
    "hash-routes": ("link", 3, '<a href="#/huts">'),
    "section-kept-out": ("tag", 2, '<meta name="robots" content="unavailable_after: 2020-01-01">'),
    "endless-space": ("link", 3, '<a href="/days?day=2026-01-01">'),
    "copies-open": ("status", None, "200 OK, no noindex, no canonical elsewhere"),
    "robots-wrong-base": ("robots", 2, "Disallow: /trust/a"),
}
MESSAGES = dict(
    line.split("\t", 1) for line in (Path(__file__).parent / "data" / "messages.tsv").read_text("utf-8").splitlines()
)
"""The message of each check's first finding in its case: a line of `data/messages.tsv`."""

LISTED = (
    "listed-hidden",
    "listed-barred",
    "listed-folded",
    "listed-redirects",
    "listed-gone",
    "listed-broken",
    "listed-locked",
)


@pytest.mark.parametrize(("id", "case"), CASES.items(), ids=list(CASES))
def test_fires_and_stays_quiet(id: str, case: Case, audit_site: AuditSite) -> None:
    """What a finding rests on comes first; the sitemap's line or the other side follows."""
    options: dict[str, Any] = {"crawlers": case.crawlers, "intent": case.intent, **case.options}
    _, verdict = audit_site(case.fires, case.missing, **options)
    assert not verdict.crashed
    found = [f for f in verdict.findings if f.check == id]
    assert sorted(f.url for f in found) == sorted(p if "://" in p else HOST + p for p in case.at)
    for finding in found:
        assert finding.evidence and finding.message and finding.crawlers and finding.cause
    assert found[0].message == MESSAGES[id]
    assert found[0].severity.word == (case.severity or checks()[id].severity.word)
    first = found[0].evidence[0]
    if id in FIRST:
        assert (first.kind, first.line, first.text) == FIRST[id]
    if id in LISTED:
        last = found[0].evidence[-1]
        assert (last.kind, last.where, last.line) == ("sitemap", HOST + "/sitemap.xml", 2)
        assert last.text == f"<loc>{found[0].url}</loc>"
    if id.startswith("canonical-to-") and id != "canonical-to-start":
        assert len(found[0].also) in (1, 2) and len(found[0].evidence) >= 1
    options["intent"] = case.intent if case.calm_intent is None else case.calm_intent
    _, calm = audit_site({**case.fires, **case.calm}, None, only=[id], **options)
    assert not (calm.crashed or calm.skipped or list(calm.findings))


@pytest.mark.parametrize(
    "fires", ["canonical-to-gone", "listed-hidden", "barred-noindex", "open-locked", "link-to-redirect", ""]
)
def test_a_check_that_is_not_asked_would_find_nothing(fires: str, audit_site: AuditSite) -> None:
    case = CASES[fires] if fires else Case({"/": "<p>Huts", "/robots.txt": "User-agent: *\nDisallow:"}, (), {})
    site, _ = audit_site(case.fires, intent=case.intent, crawlers=case.crawlers, **case.options)
    spared = [one for one in checks().values() if not site.filled.issuperset(one.feeds) and not why_skipped(one, site)]
    assert len(spared) > 20
    assert [(one.id, hit) for one in spared for hit in one.run(site)] == []


def test_every_check_has_a_case() -> None:
    assert set(CASES) == set(checks())


def test_catalogue_refuses_bad_registrations() -> None:
    def undocumented(site: object) -> Any:
        """Only a summary."""

    assert "site-barred" in checks()
    with pytest.raises(ValueError, match="lacks Why"):
        check("new-check", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING)(undocumented)
    with pytest.raises(ValueError, match="registered twice"):
        check("site-barred", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING)(undocumented)
    with pytest.raises(TypeError, match="follows"):  # whether it can be a mere consequence is for each check to say
        check("new-check", CheckClass.FLAW, Severity.NOTE)(undocumented)  # type: ignore[call-arg]


@pytest.mark.parametrize("fault", [RuntimeError("no"), duckdb.InternalException("INTERNAL Error: no\n\nStack Trace:")])
def test_a_crashing_check_is_reported(fault: Exception, audit_site: AuditSite, monkeypatch: pytest.MonkeyPatch) -> None:
    site, before = audit_site(CASES["listed-gone"].fires)
    one = checks()["listed-gone"]

    def crash(_: object) -> Any:
        raise fault

    monkeypatch.setitem(checks(), "listed-gone", replace(one, run=crash))
    after = judge(site)
    assert [(c.check, c.because) for c in after.crashed] == [
        ("listed-gone", f"{type(fault).__name__}: {fault}".split("\n")[0])
    ]
    assert {f.check for f in before.findings} - {f.check for f in after.findings} == {"listed-gone"}


def test_an_interrupt_is_no_crash(audit_site: AuditSite, monkeypatch: pytest.MonkeyPatch) -> None:
    """A library in C may answer an interrupt with an error of its own: the audit is interrupted, and no check has crashed."""
    site, _ = audit_site(CASES["listed-gone"].fires)

    def interrupted(_: object) -> Any:
        try:
            signal.raise_signal(signal.SIGINT)
        except KeyboardInterrupt as error:
            raise SystemError("returned a result with an exception set") from error

    monkeypatch.setitem(checks(), "listed-gone", replace(checks()["listed-gone"], run=interrupted))
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        with pytest.raises(Interrupted):
            judge(site)
        assert signal.getsignal(signal.SIGINT) is signal.default_int_handler
    finally:
        signal.signal(signal.SIGINT, before)


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
