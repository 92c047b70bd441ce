"""Arrow's library, settled once, before its first array.

It would load pandas for that, where it is installed, which costs half of what a small audit costs: the caller
Arrow for a frame still gets one, for it then looks again. And its own allocator reserves 1 GiB of addresses at
once, so that nothing is left for the rest where they are limited (`ulimit -v`): the system's does not.
"""

from __future__ import annotations

import sys
from importlib.machinery import ModuleSpec
from types import ModuleType
from typing import Any

import pyarrow as pa

__all__ = ["arrays", "pa"]


class _Withheld:
    """Finds no pandas."""

    @staticmethod
    def find_spec(name: str, path: Any = None, target: ModuleType | None = None) -> ModuleSpec | None:
        if name == "pandas":
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)
        return None


def _settle() -> None:
    if not pa.total_allocated_bytes():
        pa.set_memory_pool(pa.system_memory_pool())
    if "pandas" in sys.modules:
        return
    sys.meta_path.insert(0, _Withheld)
    try:
        pa.array([0])
    finally:
        sys.meta_path.remove(_Withheld)


_settle()


def arrays(con: Any, sql: str) -> list[Any]:
    """The columns of a query as NumPy arrays, none of which may hold a null: masked arrays would cost another import."""
    return [column.to_numpy() for column in con.sql(sql).to_arrow_table().columns]
