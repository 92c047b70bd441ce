"""A robots.txt in the place of a site's, or over a list of addresses."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from indrel.ask.robots.loaded import Loaded
from indrel.core.address import origin_of, split
from indrel.core.crawlers import Crawler
from indrel.decide.site import Site
from indrel.snapshot import Snapshot, SnapshotWriter, now


def alone(loaded: Loaded, crawlers: Sequence[Crawler]) -> Site:
    """A robots.txt as a site of which nothing else is known."""
    return Site(Snapshot.of_rows(_meta("robots", loaded), {"robots": [_row(loaded)]}), crawlers)


def _meta(kind: str, loaded: Loaded) -> dict[str, Any]:
    return {
        "source": {"kind": kind, "location": loaded.where}, "base": loaded.origin + "/", "started": now(), "complete": True,
        "hosts": [split(loaded.origin + "/").host], "located": loaded.located,
    }  # fmt: skip


def _row(loaded: Loaded) -> tuple[Any, ...]:
    return (
        loaded.origin, loaded.status, loaded.error, loaded.media_type, list(loaded.hops), loaded.final, loaded.body, False, "site",
        True, None if loaded.located else loaded.where,
    )  # fmt: skip


def in_place(snapshot: Path, crawlers: Sequence[Crawler], loaded: Loaded | None) -> Site:
    """A snapshot decided as if `loaded` were the robots.txt of its main host."""
    opened = Snapshot(snapshot)
    origin = origin_of(opened.meta["base"])
    return Site(opened, crawlers, {origin: (loaded.body, loaded.where)} if loaded else None)


def of_list(loaded: Loaded, urls: Sequence[str], crawlers: Sequence[Crawler], folder: Path) -> Site:
    """A site that is a list of addresses under one robots.txt; its temporary snapshot is kept in `folder`."""
    path = folder / "list.indrel"
    if not path.exists():
        with SnapshotWriter(path) as writer:
            writer.set_meta(**_meta("list", loaded))
            writer.add("robots", [_row(loaded)])
            for number, url in enumerate(dict.fromkeys(urls)):
                writer.add("address", [(number, loaded.origin, split(url).path, True)])
                writer.add("given", [(number, "also")])
    return Site(Snapshot(path), crawlers, {loaded.origin: (loaded.body, loaded.where)})
