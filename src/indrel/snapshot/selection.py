"""Which snapshot of a folder is meant: the newest is the one whose audit began last, whatever the files' dates are."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from indrel.base.errors import SnapshotError
from indrel.core.address import split
from indrel.snapshot.store import Snapshot

SUFFIX = ".indrel"
_STAMPED = re.compile(r"^(?P<host>.+)-(?P<y>\d{4})(?P<m>\d\d)(?P<d>\d\d)T(?P<H>\d\d)(?P<M>\d\d)(?P<S>\d\d)Z$")
_APART = 120
"""Seconds that the moment in a file's name may differ from the one stored in it; more, and the names are not believed."""


@dataclass(frozen=True)
class Glance:
    """What a file says of its audit: when it began (ISO 8601), of which host, and whether it read any page."""

    path: Path
    started: str
    host: str
    read_pages: bool
    complete: bool


def glance(path: Path) -> Glance:
    """Look at one snapshot. Raises SnapshotError where it is none, or was ended as it began."""
    with Snapshot(path) as snapshot:
        meta = snapshot.meta
        if "base" not in meta or "started" not in meta:
            raise SnapshotError(f"{path} is empty: its audit ended at once")
        read = snapshot.rows(
            "SELECT 1 FROM answer n JOIN address a ON a.id = n.address WHERE a.site AND n.status IS NOT NULL LIMIT 1"
        )
    return Glance(path, meta["started"], split(meta["base"]).host, bool(read), bool(meta.get("complete")))


@dataclass(frozen=True)
class Newest:
    """The newest snapshot of a folder, and what is newer but not used, with the reason."""

    path: Path
    passed_over: tuple[str, ...] = ()


def named_at(path: Path) -> str | None:
    """The moment in the name that an audit gave its file, as snapshots write it; None for any other name."""
    found = _STAMPED.match(path.stem)
    return "{y}-{m}-{d}T{H}:{M}:{S}Z".format(**found.groupdict()) if found else None


def newest(folders: Sequence[Path], host: str | None = None, whatever: bool = False) -> Newest:
    """The newest snapshot of some folders (of a host, with or without www), by the moment at which its audit began.

    One that read no page of its site is passed over, unless `whatever` is asked for. Files whose names hold their moment are
    looked at from the latest on, all others always. Raises SnapshotError where there is none.
    """
    files = [path for folder in folders for path in folder.glob(f"*{SUFFIX}") if path.is_file()]
    stamped = sorted((p for p in files if named_at(p)), key=lambda p: (named_at(p), p.name), reverse=True)
    if host:
        stamped = [p for p in stamped if _is_of(p, host)]
    looked = _look(p for p in files if named_at(p) is None)
    for place, path in enumerate(stamped):
        found = _look([path])
        looked += found
        if found and _differs(found[0]):
            looked += _look(stamped[place + 1 :])
            break
        if found and (found[0].read_pages or whatever):
            break
    if host:
        looked = [one for one in looked if _bare(one.host) == _bare(host)]
    ordered = sorted(looked, key=lambda one: (one.started, one.path.name), reverse=True)
    chosen = next((one for one in ordered if one.read_pages or whatever), None)
    if chosen is None:
        empty = f" that read a page: the newest, {ordered[0].path}, read none" if ordered else ""
        raise SnapshotError(
            f"no snapshot in {folders[0]}/{empty}: run `indrel audit ADDRESS` first, or name a snapshot"
        )
    newer = ordered[: ordered.index(chosen)]
    return Newest(chosen.path, tuple(f"{n.path} read no page and is not used; --from {n.path} uses it" for n in newer))


def in_order(paths: Iterable[Path]) -> list[Glance]:
    """The audits of snapshots, the newest first, without the snapshots that cannot be read."""
    return sorted(_look(paths), key=lambda one: (one.started, one.path.name), reverse=True)


def _look(paths: Iterable[Path]) -> list[Glance]:
    found = []
    for path in paths:
        try:
            found.append(glance(path))
        except SnapshotError:
            continue
    return found


def _differs(one: Glance) -> bool:
    from datetime import datetime

    said, stored = (datetime.fromisoformat(moment) for moment in (named_at(one.path) or one.started, one.started))
    return abs((said - stored).total_seconds()) > _APART


def _bare(host: str) -> str:
    return host.lower().removeprefix("www.")


def _is_of(path: Path, host: str) -> bool:
    name = path.stem[:-17]  # less the moment and the hyphen before it
    return _bare(name) == re.sub(r"[^A-Za-z0-9.-]", "_", _bare(host))
