"""What the database's own faults mean, in words: a damaged snapshot, a full disk, too little memory."""

from __future__ import annotations

import duckdb

from indrel.base.errors import AuditCutShort, IndrelError, Interrupted, SnapshotError

_DAMAGE = (
    "corrupt",
    "checksum",
    "could not read enough bytes",
    "serializ",
    "failed to load",
    "out of range",
    "invalid block",
)
_FULL = (
    "no space left",
    "disk quota",
    "file too large",
    "could not write",
    "cannot write",
    "failed to write",
    "failed to truncate",
)

_MEMORY = ("bad allocation", "can't start new thread", "bad_alloc", "failed to map segment", "cannot allocate memory")
"""How libraries say that there is none left: also when they are only loaded."""


def is_of_one_question(error: BaseException, con: duckdb.DuckDBPyConnection) -> bool:
    """Whether the database failed at one question by a fault of its own, and answers others."""
    if not isinstance(error, duckdb.InternalException) or any(word in str(error).lower() for word in _DAMAGE):
        return False
    try:
        return bool(con.execute("SELECT count(*) FROM meta").fetchall())
    except duckdb.Error:
        return False


def explained(error: BaseException) -> IndrelError | None:
    """The fault that one of the database's errors comes from; None where it is no such fault, but a mistake of ours."""
    if not isinstance(error, duckdb.Error | RuntimeError | MemoryError | ImportError):
        return None
    first = error.__context__
    if isinstance(error, duckdb.TransactionException) and first is not None:  # what aborted the transaction says why
        return Interrupted("interrupted") if isinstance(first, KeyboardInterrupt) else explained(first)
    text = str(error).lower()
    if isinstance(error, duckdb.InterruptException) and "execution time" in text:
        return SnapshotError("a query of the snapshot took too long: it may be made to be slow; audit again")
    if isinstance(error, duckdb.InterruptException) or text == "query interrupted":  # in place of the interrupt itself
        return Interrupted("interrupted")
    if isinstance(error, MemoryError | duckdb.OutOfMemoryException) or any(word in text for word in _MEMORY):
        return AuditCutShort("there is too little memory for this: what was gathered is kept, give the program more")
    if any(word in text for word in _FULL):
        return AuditCutShort(
            "the disk is full or may not be written: what was gathered is kept; make room and run again "
            "(of a site, --resume goes on from there)"
        )
    if any(word in text for word in _DAMAGE):
        return SnapshotError("the snapshot is damaged: audit again, or use another snapshot")
    if isinstance(error, duckdb.InternalException | duckdb.FatalException):
        return SnapshotError(
            "the snapshot is damaged, or the database failed at a question: audit again, and report it if that fails too"
        )
    return None
