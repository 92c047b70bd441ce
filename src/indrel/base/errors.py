"""Every error Indrel raises on purpose.

IndrelError
├── UsageError          the request itself cannot be carried out          exit 2
│   ├── InputError      a file or address that was named cannot be read   exit 2
│   └── SnapshotError   a snapshot that is none, too old or too new       exit 2
├── AuditCutShort       the audit ended early; what was gathered is kept  exit 3
└── Interrupted         stopped by the user; what was gathered is kept    exit 130
"""

from __future__ import annotations


class IndrelError(Exception):
    """Base of all. The text is one line that says what is wrong, where, and what to do."""

    exit_code = 3


class UsageError(IndrelError):
    exit_code = 2


class InputError(UsageError):
    pass


class SnapshotError(UsageError):
    pass


class AuditCutShort(IndrelError):
    exit_code = 3


class Interrupted(IndrelError):
    exit_code = 130
