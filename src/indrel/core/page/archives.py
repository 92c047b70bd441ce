"""Pages that list others by what they have in common, as their URLs tell."""

from __future__ import annotations

import re
from collections.abc import Sequence

ARCHIVE_PATHS = {
    "tag-archive": r"^/(.*/)?tags?/[^/?.]+(/|\.html?)?$",
    "author-archive": r"^/(.*/)?authors?/[^/?.]+(/|\.html?)?$",
    "category": r"^/(.*/)?(product-)?(category|categories)/[^?.]+(\.html?)?$",
    "date-archive": r"^/((blog|news|archives?)/)?(19|20)[0-9]{2}/([0-9]{1,2}/([0-9]{1,2}/)?)?$",
}
"""Patterns over lower-case paths, by kind."""

_ANY = re.compile("|".join(f"({pattern})" for pattern in ARCHIVE_PATHS.values()))


def is_archive(path: str) -> bool:
    """Whether a path and query is that of an archive."""
    return _ANY.search(path.lower()) is not None


def leads_to_archives(url: str, targets: Sequence[str]) -> bool:
    """Whether the archive at `url` leads to other archives alone (beside home and itself): then it lists nothing. What is below it is
    its entries."""
    home = url[: url.index("/", 8) + 1]
    others = {target for target in targets if target not in (url, home)}
    return bool(others) and all(
        target.startswith(home) and not target.startswith(url.rstrip("/") + "/") and is_archive(target[len(home) - 1 :])
        for target in others
    )
