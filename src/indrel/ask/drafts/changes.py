"""The text that makes a finding, and the same as it should be, for findings where one follows from the other."""

from __future__ import annotations

import re
from collections.abc import Callable

from indrel.core.address import normalise, split
from indrel.core.model import Evidence, Finding

GOES = "(the line goes)"
TAG = '<meta name="robots" content="noindex">'
HEADER = "X-Robots-Tag: noindex"

Change = tuple[str, str]
After = Callable[[Finding, str], str | None]


def before_and_after(finding: Finding) -> Change | None:
    """The evidence that is to change, and what it becomes; None where a person has to choose."""
    kinds, after = CHANGES.get(finding.check, (None, None))
    evidence = _of(finding, kinds)
    if after is None or evidence is None:
        return None
    text = after(finding, evidence.text)
    return (evidence.text, text) if text is not None and text != evidence.text else None


def _of(finding: Finding, kinds: tuple[str, ...] | None) -> Evidence | None:
    """The first evidence of some kinds (of any, where none are named)."""
    return next((e for e in finding.evidence if kinds is None or e.kind in kinds), None)


def _always(text: str) -> After:
    return lambda finding, before: text


def _without(*tokens: str) -> After:
    """A robots tag or header without some tokens; all of it goes where nothing is left."""

    def after(finding: Finding, before: str) -> str:
        kept = re.sub(rf"\b({'|'.join(tokens)})\b\s*,?\s*", "", before, flags=re.IGNORECASE)
        empty = re.search(r"content\s*=\s*([\"']?)\s*\1\s*/?>|X-Robots-Tag:\s*$", kept, re.IGNORECASE)
        return GOES if empty else re.sub(r",\s*([\"'])", r"\1", kept)

    return after


def _meant(finding: Finding, before: str) -> str | None:
    """What the message takes for a slip, replaced by what it takes to be meant."""
    wrong, right = re.search(r"`([^`]+)`[^`]*`([^`]+)` was probably meant", finding.message), None
    if wrong:
        right = re.sub(re.escape(wrong[1]), wrong[2].replace("\\", r"\\"), before, count=1, flags=re.IGNORECASE)
    return right


def _written(finding: Finding, before: str) -> str | None:
    """A robots.txt line with the path that the message says to write."""
    found = re.search(r"write `(/[^`]*)`", finding.message)
    return re.sub(r":\s*.*", lambda _: f": {found[1]}", before) if found else None


def _in_its_case(finding: Finding, before: str) -> str | None:
    field, colon, path = before.partition(":")
    known = split(finding.also[0]).path if finding.also else ""
    path = path.strip()
    return f"{field}{colon} {known[: len(path)]}" if known.lower().startswith(path.lower()) else None


def _also_allowed(finding: Finding, before: str) -> str | None:
    return "\n".join([before, *(f"Allow: {split(url).path}" for url in finding.also[:10])]) if finding.also else None


def _with_rel(word: str) -> After:
    def after(finding: Finding, before: str) -> str | None:
        return (
            re.sub(r"^<a\b", f'<a rel="{word}"', before) if before.startswith("<a") and " rel=" not in before else None
        )

    return after


def _canonical(url: str) -> str:
    return f'<link rel="canonical" href="{url}">'


def _own(finding: Finding, before: str) -> str:
    each = "  (each page its own address)" if finding.check in ("canonical-to-start", "canonical-first-page") else ""
    return _canonical(finding.url) + each


def _last(finding: Finding, before: str) -> str | None:
    return _canonical(finding.also[-1]) if finding.also else None


def _leads_to(finding: Finding) -> str | None:
    """Where a redirect that is evidence leads."""
    header = _of(finding, ("header",))
    if header is None or not header.text.startswith("Location:"):
        return None
    return normalise(header.text.removeprefix("Location:").strip(), finding.also[0] if finding.also else finding.url)


def _redirected(finding: Finding, before: str) -> str | None:
    target = _leads_to(finding)
    return _canonical(target) if target else None


def _entry(finding: Finding, before: str) -> str:
    target = finding.also[0] if finding.also else _leads_to(finding)
    return f"(the entry goes, or lists {target})" if target else "(the entry goes)"


_STATUS, _ROBOTS, _SAID, _LINK, _NAMED = ("status",), ("robots",), ("tag", "header"), ("link",), ("canonical",)

CHANGES: dict[str, tuple[tuple[str, ...] | None, After]] = {
    "noindex-wanted": (_SAID, _without("noindex", "none")),
    "site-noindex": (_SAID, _without("noindex", "none")),
    "expiry-passed": (_SAID, _without(r"unavailable_after\s*:[^,\"']*")),
    "page-nofollow": (_SAID, _without("nofollow")),
    "robots-token-slip": (_SAID, _meant),
    "robots-tag-void": (("tag",), lambda finding, before: re.sub(r"\bproperty\s*=", "name=", before, count=1)),
    "open-unwanted": (_STATUS, _always(f"{TAG} in the head, or {HEADER} in the answer")),
    "junk-open": (_STATUS, _always(f"{TAG} in the head, or {HEADER} in the answer")),
    "file-needs-header": (_STATUS, _always(HEADER)),
    "host-open": (_STATUS, _always("401 Unauthorized for all addresses of the host, or " + HEADER)),
    "open-locked": (_STATUS, _always("401 Unauthorized (or 403 Forbidden) for whoever has not signed in")),
    "live-dropped": (_STATUS, _always("410 Gone (or 404 Not Found)")),
    "missing-answers-200": (_STATUS, _always("404 Not Found")),
    "soft-missing": (_STATUS, _always("404 Not Found")),
    "robots-unreachable": (_STATUS, _always("200 OK with the rules, or 404 Not Found if there are to be none")),
    "link-to-gone": (_LINK, _always("(the link goes, or leads to an address that is there)")),
    "paid-link-followed": (_LINK, _with_rel("sponsored")),
    "user-link-followed": (_LINK, _with_rel("ugc")),
    "link-rel-slip": (_LINK, _meant),
    "barred-noindex": (_ROBOTS, _always(GOES)),
    "robots-overreach": (_ROBOTS, _also_allowed),
    "robots-unknown-field": (_ROBOTS, _meant),
    "robots-bad-path": (_ROBOTS, _written),
    "robots-case-slip": (_ROBOTS, _in_its_case),
    "robots-anchor-slip": (_ROBOTS, lambda finding, before: before.rstrip("*") if "adds nothing" in finding.message else None),
    "robots-orphan-rule": (_ROBOTS, lambda finding, before: f"User-agent: *\n{before}"),
    "robots-unsupported-field": (_ROBOTS, _always(GOES)),
    "robots-foreign-sitemap": (_ROBOTS, _always("(the line goes, or names a sitemap of this site)")),
    "canonical-and-noindex": (_SAID, _always("(the noindex goes, or the canonical does)")),
    "canonical-in-body": (_NAMED, lambda finding, before: f"{before}  (inside the head)"),
    "canonical-chain": (_NAMED, _last),
    "canonical-to-redirect": (_NAMED, _redirected),
    "canonical-fragment": (_NAMED, lambda finding, before: re.sub(r"#[^\"'\s>]*", "", before)),
    **{
        f"canonical-{name}": (_NAMED, _own)
        for name in ("to-start", "first-page", "to-closed-host", "host-variant", "wanted-folded", "to-gone", "to-broken", "relative",
                     "unusable", "unlike")
    },
    **{
        f"listed-{name}": (("sitemap",), _entry)
        for name in ("barred", "hidden", "folded", "redirects", "gone", "broken", "locked", "unwanted")
    },
}  # fmt: skip
"""By check: which evidence is to change (the first of these kinds), and what it becomes."""
