"""The last step of an explanation: what to edit so that a page gets the state that its owner wants."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from indrel.base.plain import code
from indrel.checks.evidence import robots_line
from indrel.core.address import split
from indrel.core.crawlers import Crawler
from indrel.core.model import Evidence, State, Want, capital, listing
from indrel.decide.site import Site


@dataclass(frozen=True, slots=True)
class Step:
    step: str
    outcome: str
    evidence: tuple[Evidence, ...] = ()

    def saying(self, outcome: str) -> Step:
        return replace(self, outcome=outcome)

    def as_json(self) -> dict[str, object]:
        return {"step": self.step, "outcome": self.outcome, "evidence": [e.as_json() for e in self.evidence]}


AS_WANTED = {
    Want.SHOW: (State.OPEN,), Want.HIDE: (State.HIDDEN, State.GONE), Want.LOCK: (State.LOCKED,), Want.DROP: (State.GONE,),
}  # fmt: skip
"""The states that a want asks for."""

BRING_BACK = "to bring it back, restore the page; if it moved, redirect (301) to its new URL"
ADD_NOINDEX = 'add `<meta name="robots" content="noindex">` to its head'
SEND_NOINDEX = "edit the server's configuration: send `X-Robots-Tag: noindex` with it"


def change_step(
    site: Site, url: str, fact: dict[str, Any] | None, crawler: Crawler, state: str, by: tuple[Evidence, ...]
) -> Step:
    """What to edit so that the page gets the state that is wanted, or, if it has that, another one; `by` is what decided it."""
    want = Want(fact["want"]) if fact else Want.ANY
    if fact is None or state == State.UNREAD:
        if state == State.BARRED:
            return _unbar(site, url, crawler)
        return Step("change", "to know more, link to it or give it with --urls, and audit again")
    if State(state) in AS_WANTED.get(want, ()):
        other = _to_open(site, url, fact, crawler, state, by) if state != State.OPEN else _to_close(Want.HIDE, fact)
        return other.saying(f"none needed: it is as you want it ({want}). {capital(other.outcome)}")
    if want in (Want.LOCK, Want.DROP):
        return _to_close(want, fact)
    if want is Want.HIDE:
        if state == State.BARRED:
            first = _unbar(site, url, crawler)
            then = (
                ""
                if _has_noindex(site, fact, crawler)
                else f"; second, {_noindex(fact)}, so that crawlers read the noindex"
            )
            return first.saying(f"to hide it: first, {first.outcome.removeprefix('to unblock it, ')}{then}")
        if state == State.OPEN:
            return _to_close(want, fact)
    return _to_close(Want.HIDE, fact) if state == State.OPEN else _to_open(site, url, fact, crawler, state, by)


def _noindex(fact: dict[str, Any]) -> str:
    return ADD_NOINDEX if fact["html"] else SEND_NOINDEX


def _has_noindex(site: Site, fact: dict[str, Any], crawler: Crawler) -> bool:
    bit = 1 << site.crawlers.index(crawler)
    return bool(site.one(f"SELECT noindex & {bit} > 0 FROM fact WHERE id = ?", [fact["id"]]))


def _to_close(want: Want, fact: dict[str, Any]) -> Step:
    if want is Want.LOCK:
        return Step("change", "to lock it, edit the server's configuration: require a login (401) for it")
    if want is Want.DROP:
        return Step("change", "to drop it, return 404 or 410, or redirect it to the page that replaced it")
    return Step(
        "change", f"to hide it, {_noindex(fact)} (do not block it in robots.txt, or crawlers never read the noindex)"
    )


def _to_open(
    site: Site, url: str, fact: dict[str, Any], crawler: Crawler, state: str, by: tuple[Evidence, ...]
) -> Step:
    """What to edit so that the page is open, every edit in order."""
    if state == State.BARRED:
        step = _unbar(site, url, crawler)
        if _has_noindex(site, fact, crawler):
            return step.saying(f"{step.outcome}; then remove its noindex too")
        return step
    if state == State.HIDDEN:
        places = listing([_place(e) for e in by])
        is_dated = all("unavailable_after" in e.text.lower() for e in by)
        what = "the date, or set a later one" if is_dated else "the noindex"
        return Step("change", f"to show it, edit {places}: remove {what}", by)
    if state == State.FOLDED:
        how = fact["fold_how"]
        if how == "canonical":
            return Step(
                "change", f"to index it under its own URL, edit {_place(by[0])}: let the canonical point to {url}", by
            )
        if how == "script":
            return Step(
                "change", f"to index it under its own URL, edit the scripts of {url}: do not lead elsewhere", by
            )
        where = _place(by[0]) if how == "refresh" else "the server's configuration"
        return Step("change", f"to index it under its own URL, edit {where}: remove the {how}", by)
    if state == State.BROKEN and fact["status"] is not None and fact["status"] < 300:
        return Step("change", "to fix it, return 404 or 410 if there is no page, or restore the page's content")
    words = {
        State.LOCKED: "to open it, edit the server's configuration: return it without a login",
        State.GONE: BRING_BACK,
        State.BROKEN: "to fix it, look into the server's error log for this URL",
    }
    return Step("change", words[State(state)])


def _unbar(site: Site, url: str, crawler: Crawler) -> Step:
    _, rule, rules = site.rule_for(url, crawler)
    host = site.robots.get(split(url).origin)
    if host is None or rule is None or rules is None:
        return Step("change", "to unblock it, let robots.txt of its host return 200 with rules, or 404 for no rules")
    line = robots_line(host, rule.line, rule.text)
    path = split(url).path
    longer = f", or add `Allow: {path}` to the group for {rules.group}" if len(path) > len(rule.path) else ""
    return Step("change", f"to unblock it, edit {_place(line)}: limit {code(rule.text)} or remove it{longer}", (line,))


def _place(evidence: Evidence) -> str:
    if evidence.kind == "header":
        return f"the server's configuration for {evidence.where}"
    return f"{evidence.where}:{evidence.line}" if evidence.line else evidence.where
