"""Arrow's library, settled once: it would load pandas, where that is installed, for the first array that it makes.

That costs half of what a small audit costs. Whoever asks Arrow for a frame still gets one: it then looks again.
"""

from __future__ import annotations

import sys
from importlib.machinery import ModuleSpec
from types import ModuleType
from typing import Any

import pyarrow as pa

__all__ = ["pa"]


class _Withheld:
    """Finds no pandas."""

    @staticmethod
    def find_spec(name: str, path: Any = None, target: ModuleType | None = None) -> ModuleSpec | None:
        if name == "pandas":
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)
        return None


def _settle() -> None:
    if "pandas" in sys.modules:
        return
    sys.meta_path.insert(0, _Withheld)
    try:
        pa.array([0])
    finally:
        sys.meta_path.remove(_Withheld)


_settle()
