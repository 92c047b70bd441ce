"""One file that holds every fact gathered in one audit."""

from indrel.snapshot.moment import now
from indrel.snapshot.store import Snapshot
from indrel.snapshot.writer import SnapshotWriter, claimed

__all__ = ["Snapshot", "SnapshotWriter", "claimed", "now"]
