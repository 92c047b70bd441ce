"""A robots.txt in the place of a site's, or over a list of addresses."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from indrel.ask.robots.loaded import Loaded
from indrel.core.address import origin_of, split
from indrel.core.crawlers import Crawler
from indrel.decide.site import Site
from indrel.gather.recorder import now
from indrel.snapshot import Snapshot, SnapshotWriter


def lone_snapshot(path: Path, loaded: Loaded, urls: Iterable[str] = ()) -> None:
    kind = "list" if urls else "robots"
    with SnapshotWriter(path) as writer:
        writer.set_meta(
            source={"kind": kind, "location": loaded.where}, base=loaded.origin + "/", started=now(), complete=True,
            hosts=[split(loaded.origin + "/").host], located=loaded.located,
        )  # fmt: skip
        writer.add(
            "robots",
            [
                (
                    loaded.origin, loaded.status, loaded.error, loaded.media_type, list(loaded.hops), loaded.final,
                    loaded.body, False, "site", True, None if loaded.located else loaded.where,
                )
            ],
        )  # fmt: skip
        for number, url in enumerate(dict.fromkeys(urls)):
            writer.add("address", [(number, loaded.origin, split(url).path, True)])
            writer.add("given", [(number, "also")])


def in_place(snapshot: Path, crawlers: Sequence[Crawler], loaded: Loaded | None) -> Site:
    """A snapshot decided as if `loaded` were the robots.txt of its main host."""
    opened = Snapshot(snapshot)
    origin = origin_of(opened.meta["base"])
    return Site(opened, crawlers, {origin: (loaded.body, loaded.where)} if loaded else None)


def of_list(loaded: Loaded, urls: Sequence[str], crawlers: Sequence[Crawler], folder: Path) -> Site:
    """A site that is a list of addresses under one robots.txt; its temporary snapshot is kept in `folder`."""
    path = folder / "list.indrel"
    if not path.exists():
        lone_snapshot(path, loaded, urls)
    return Site(Snapshot(path), crawlers, {loaded.origin: (loaded.body, loaded.where)})
