"""What a plain install leaves out: asked for in one line where it is missing."""

from __future__ import annotations

from importlib.util import find_spec

from indrel.base.errors import UsageError

EXTRAS = {"matplotlib": "figures", "pandas": "frames"}
"""The extra of this package that brings each library."""


def require(library: str, what: str) -> None:
    """Raises UsageError, with the command that fixes it, where a library is not installed."""
    if find_spec(library) is None:
        raise UsageError(f"{what} needs {library}, which is not installed: pip install 'indrel[{EXTRAS[library]}]'")
