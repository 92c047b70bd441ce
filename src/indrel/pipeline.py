"""The only place that knows all stages: source to facts to snapshot to verdict."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from indrel.base.errors import AuditCutShort, IndrelError, InputError, Interrupted, UsageError
from indrel.base.files import ARCHIVES, archives_in, is_snapshot
from indrel.checks import checks, verdict_of
from indrel.core import crawlers
from indrel.core.address import BARE_HOST, normalise, origin_of, site_key, split
from indrel.core.intent import DEFAULT_NAME, Intent, read_intent
from indrel.core.model import LONE, SOURCES, Verdict, plural
from indrel.decide.site import Site, kept_intent
from indrel.snapshot import Snapshot, SnapshotWriter, claimed
from indrel.snapshot.columns import transaction
from indrel.snapshot.selection import SUFFIX, Newest, newest
from indrel.sources.url_file import lists_urls

if TYPE_CHECKING:
    from indrel.core.mapping import AddressMap
    from indrel.gather.parsing import ParserPool
    from indrel.gather.recorder import Recorder
    from indrel.sources import Source
    from indrel.sources.options import GatherOptions

RUNS = "indrel-runs"
FEW_PAGES = 2_000
"""Pages up to which a snapshot is laid out to be small."""

_CREDENTIAL = re.compile("auth|cookie|token|key|session|secret", re.IGNORECASE)


@dataclass(frozen=True)
class Gathered:
    """Where the facts are kept, and what cut the gathering short, if anything did."""

    snapshot: Path
    cut_short: IndrelError | None = None
    pages: int = 0


_FILES = (SUFFIX, ".warc", ".gz", ".txt", ".html", ".htm", ".xml", ".csv", ".json", ".toml")
"""Endings of files, which no host's name has: what ends so and is not there is a slip, and no host to ask."""


def source_kind(source: str | Sequence[str]) -> str:
    """`site`, `folder`, `warc`, `urls` or `snapshot`: what was named. Raises UsageError where it is none of them, or where several
    are named that are not all archives."""
    if not isinstance(source, str):
        others = [one for one in source if source_kind(one) != "warc"] if len(source) > 1 else []
        if others:
            raise UsageError(f"{others[0]} is no WARC file: several SOURCEs are read only if all of them are")
        return source_kind(source[0])
    if source.startswith(("http://", "https://")):
        if normalise(source) is None:
            raise UsageError(f"{source} is not a URL: write it like https://www.sarnfell.example/")
        return "site"
    path = Path(source)
    if path.is_dir():
        return "warc" if archives_in(path) else "folder"
    if path.is_file():
        if path.name.lower().endswith(ARCHIVES):
            return "warc"
        return "urls" if not is_snapshot(source) and lists_urls(path) else "snapshot"
    if re.match(r"^[a-z][a-z0-9+.-]*://", source, re.IGNORECASE):
        raise UsageError(
            f"{source} cannot be audited: give an http(s) URL, a folder, a WARC file, a text file of URLs or a snapshot"
        )
    if BARE_HOST.match(source) and path.suffix.lower() not in _FILES:
        return "site"
    raise InputError(f"{source} is not a folder, a file or a URL (URLs begin with http:// or https://)")


def new_snapshot_path(host: str, folder: Path | None = None) -> Path:
    """A name for a new snapshot of a host, `indrel-runs/HOST-20261123T080000Z.indrel`, claimed until its file is there."""
    moment = datetime.now(UTC)
    while True:
        stamp = moment.strftime("%Y%m%dT%H%M%SZ")
        path = (folder or Path(RUNS)) / f"{re.sub(r'[^A-Za-z0-9.-]', '_', host)}-{stamp}{SUFFIX}"
        if claimed(path):
            return path
        moment += timedelta(seconds=1)  # two audits in one second


def newest_snapshot(folder: Path | None = None, host: str | None = None) -> Newest:
    """The newest snapshot in `indrel-runs/` and the working folder that read a page (of a host, with or without www, if one is
    given)."""
    return newest([folder] if folder else [Path(RUNS), Path()], host)


def kept_in(folder: str | Path | None = None) -> list[Path]:
    """The snapshots of a folder (of `indrel-runs/`)."""
    return list(Path(folder or RUNS).glob(f"*{SUFFIX}"))


def gather(
    source: str | Sequence[str],
    options: GatherOptions,
    snapshot: Path | None = None,
    resume: bool = False,
    pool: ParserPool | None = None,
) -> Gathered:
    """Read a site, a folder or WARC files into a snapshot.

    What cuts the gathering short is given back beside the snapshot, in which everything gathered
    until then is kept. Raises UsageError where nothing can be gathered at all.
    """
    from indrel.gather.parsing import ParserPool
    from indrel.gather.recorder import Recorder
    from indrel.sources import opened

    kind = source_kind(source)
    named = source if isinstance(source, str) or len(source) > 1 else source[0]
    if options.render:
        from indrel.sources.browser.launch import try_out

        try_out(options.browser, options.sandbox)
    pool = pool or ParserPool()
    try:
        read = opened(kind, named, options)
        host = split(read.base).host
        again = resume and read.resumes
        path = snapshot or (newest([Path(RUNS), Path()], host, True).path if again else new_snapshot_path(host))
        existed = path.exists()
        cut: IndrelError | None = None
        try:
            with _continued(path, kind, read) if again else _begin(path, kind, read) as writer:
                recorder = Recorder(writer, {*writer.meta["hosts"], *read.options.hosts})
                try:
                    because = read.gather(recorder, pool)
                except (AuditCutShort, Interrupted) as error:
                    cut, because = error, str(error)
                cut, because = _finish(recorder, cut, because)
        except InputError:
            if not existed:
                path.unlink(missing_ok=True)
            raise
    finally:
        pool.close()
    return Gathered(path, cut, recorder.pages)


def _finish(recorder: Recorder, cut: IndrelError | None, because: str | None) -> tuple[IndrelError | None, str | None]:
    """End a gathering; what cut it short, facts that could not be written included, and what keeps it from being complete."""
    recorder.commit(force=True)
    if recorder.unkept and cut is None:
        url, reason = next(iter(recorder.unkept.items()))
        cut = AuditCutShort(
            f"{plural(len(recorder.unkept), 'URL')} {reason}, such as {url}; report it, with the snapshot"
        )
    if recorder.unviewed and cut is None:
        cut = AuditCutShort(recorder.unviewed)
    because = str(cut) if cut else because
    recorder.finish(because is None, because)
    return cut, because


def _begin(path: Path, kind: str, source: Source) -> SnapshotWriter:
    from indrel.snapshot import now

    options = source.options
    writer = SnapshotWriter(path, small=source.expected is not None and source.expected <= FEW_PAGES)
    writer.set_meta(
        source={"kind": kind, "location": source.location},
        base=source.base,
        started=now(),
        finished=None,
        complete=False,
        incomplete_because="the audit was broken off",
        crawlers=[c.token for c in options.crawlers],
        hosts=sorted({site_key(source.base), *options.hosts}),
        follow_links=options.follow_links,
        read_barred=options.read_barred,
        as_crawlers=options.as_crawlers,
        user_parts=list(options.user_parts),
        with_credentials=any(_CREDENTIAL.search(name) for name, _ in options.headers),
        asked={
            "rate": options.rate, "base": options.base, "headers": [name for name, _ in options.headers],
            "connect": [f"{c.host}={'http://' if c.plain else ''}{c.place}" for c in options.connect],
        },
    )  # fmt: skip
    return writer


def _continued(path: Path, kind: str, source: Source) -> SnapshotWriter:
    """The snapshot of a broken-off audit, to go on with."""
    writer = SnapshotWriter(path, resume=True)
    named = writer.meta.get("source", {}).get("location", source.location)  # none: it was killed as it began
    if source.location not in (named, writer.meta.get("base")):
        raise UsageError(f"{path} is an audit of {named}: resume it with that URL")
    if writer.meta.get("prepared"):
        return writer
    writer.close()  # it never came to the pages: there is nothing to go on from
    return _begin(path, kind, source)


def ask_again(old: Path, new: Path, urls: Iterable[str], options: GatherOptions) -> Gathered:
    """A copy of a live site's snapshot in which some addresses, robots.txt and the sitemaps are asked for again.

    Raises UsageError for snapshots of folders: those are read whole in no time.
    """
    from indrel.gather.parsing import ParserPool
    from indrel.gather.recorder import Recorder
    from indrel.snapshot import now
    from indrel.sources.site import LiveSite

    with Snapshot(old) as before:
        meta = before.meta
    if not SOURCES.get(meta["source"]["kind"], LONE).can_ask_again:
        raise UsageError(f"{old} is of a {meta['source']['kind']}: audit it again, it is always read whole")
    new.parent.mkdir(parents=True, exist_ok=True)
    pool = ParserPool()
    try:
        shutil.copyfile(old, new)
        with SnapshotWriter(new, resume=True) as writer:
            wanted = frozenset(urls)
            _forget(writer, wanted)
            writer.set_meta(
                started=now(), finished=None, complete=False, incomplete_because="asking again was broken off"
            )
            recorder = Recorder(writer, meta["hosts"])
            site = LiveSite(meta["base"], recorder, pool, replace(options, only=wanted, follow_links=False))
            site.reads_sitemaps = meta["source"]["kind"] == "site"
            cut: IndrelError | None = None
            try:
                site.gather()
            except (AuditCutShort, Interrupted) as error:
                cut = error
            cut, _ = _finish(recorder, cut, str(cut) if cut else meta.get("incomplete_because"))
    finally:
        pool.close()
    return Gathered(new, cut)


def _forget(writer: SnapshotWriter, urls: frozenset[str]) -> None:
    """Take out what should be asked for again."""
    con = writer.con
    with transaction(con):
        again = "SELECT id FROM address WHERE origin || path IN (SELECT unnest(?::VARCHAR[]))"
        writer.forget(number for (number,) in con.execute(again, [sorted(urls)]).fetchall())
        con.execute("DELETE FROM probe WHERE url IN (SELECT unnest(?::VARCHAR[]))", [sorted(urls)])
        origins = sorted({origin_of(u) for u in urls} | {origin_of(str(writer.meta["base"]))})
        con.execute("DELETE FROM robots WHERE origin IN (SELECT unnest(?::VARCHAR[]))", [origins])
        con.execute("DELETE FROM robots_as")
        con.execute("DELETE FROM sitemap")
        con.execute("DELETE FROM entry")
        con.execute("DELETE FROM elsewhere")


def load_intent(file: Path | None, beside: str | None = None) -> Intent:
    """The intent file named, or `indrel.toml` in the working folder, or next to the folder `beside` that is audited; else an empty
    one."""
    near = [Path(DEFAULT_NAME)]
    if beside and Path(beside).is_dir():
        folder = Path(beside)
        near.append((folder if folder.name not in ("", "..") else folder.resolve()).parent / DEFAULT_NAME)
    path = file or next((one for one in near if one.is_file()), None)
    return read_intent(path, checks()) if path else Intent()


def keep_intent(snapshot: Path, intent: Intent) -> None:
    """Keep an intent with the snapshot that was gathered under it, for questions asked later without one."""
    if intent.where:
        with SnapshotWriter(snapshot, resume=True) as writer:
            writer.set_meta(intent={"where": intent.where, "text": intent.text})


def examine(path: Path, names: Iterable[str] | None = None, intent: Intent | None = None) -> tuple[Site, Verdict]:
    """Decide and check a snapshot, for the crawlers named, those of the intent, or those it was gathered for."""
    site = open_site(path, names, intent)
    return site, verdict_of(site)


def open_site(
    path: Path, names: Iterable[str] | None = None, intent: Intent | None = None, memory: str | None = None
) -> Site:
    """A snapshot decided for some crawlers and wants; `memory` bounds the database ("160MB")."""
    snapshot = Snapshot(path, memory)
    if intent is None or not intent.where:
        intent = kept_intent(snapshot)
    wanted = names or intent.crawlers or snapshot.meta.get("crawlers") or crawlers.DEFAULT
    return Site(snapshot, crawlers.resolve(wanted), intent=intent)


def open_and_wanted(
    path: Path, names: Iterable[str] | None, intent: Intent | None, places: Callable[[str, str], AddressMap],
    redirects: bool, base: str,
) -> Iterator[str]:  # fmt: skip
    """The addresses of a snapshot's site that were wanted and open for a crawler, and its redirects if asked for, in the order in
    which they were found, as they stand on the site that is at `base` now; `places` maps from one base to the other."""
    site = open_site(path, names, intent)
    try:
        more = "OR fold_how = 'redirect'" if redirects else ""
        wanted = (
            f"SELECT origin || path FROM fact WHERE known AND site AND (want = 'show' AND open > 0 {more}) ORDER BY id"
        )
        there = places(site.base, base)
        cursor = site.con.execute(wanted)
        while rows := cursor.fetchmany(10_000):
            yield from (there.url(url) for (url,) in rows)
    finally:
        site.close()


def page_address(text: str, site: Site) -> str:
    """The address a user means: whole, or a path on the snapshot's site."""
    url = normalise(text) if "://" in text else normalise(text if text.startswith("/") else "/" + text, site.base)
    if url is None:
        raise UsageError(f"{text} is not a URL: give a full URL, or a path on {origin_of(site.base)}")
    return url
