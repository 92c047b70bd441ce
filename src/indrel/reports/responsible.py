"""Who can fix a cause, in words that a site owner understands: told from what has to be edited."""

from __future__ import annotations

from indrel.core.model import Cause

OWNER = "you, in the CMS or site settings"
DEVELOPER = "your developer, in a template or script"
ADMIN = "your host or server administrator"

_BY_KIND = {
    "tag": OWNER, "canonical": OWNER, "link": OWNER, "sitemap": OWNER, "robots": OWNER, "intent": OWNER, "text": OWNER, "list": OWNER,
    "head-end": DEVELOPER, "script": DEVELOPER, "resource": DEVELOPER, "rendered": DEVELOPER,
    "header": ADMIN, "status": ADMIN,
}  # fmt: skip
"""By the kind of a cause's first evidence."""

OF_A_TEMPLATE = 5
"""Pages from which on a tag or link is a template's."""


def who_can_fix(cause: Cause) -> str:
    """The person who can make the edit: for a tag on many pages the developer, because a template prints it."""
    kind = cause.findings[0].evidence[0].kind if cause.findings and cause.findings[0].evidence else "text"
    if kind in ("tag", "canonical", "link") and cause.count >= OF_A_TEMPLATE:
        return DEVELOPER
    return _BY_KIND.get(kind, DEVELOPER)
