"""The only place that knows all stages: source to facts to snapshot to verdict."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote

from indrel.checks import checks, verdict_of
from indrel.core import crawlers
from indrel.core.address import normalise, origin_of, site_key, split
from indrel.core.intent import DEFAULT_NAME, Intent, read_intent
from indrel.core.model import Verdict
from indrel.decide.site import Site, kept_intent
from indrel.errors import AuditCutShort, IndrelError, InputError, Interrupted, SnapshotError, UsageError
from indrel.snapshot import Snapshot, SnapshotWriter

if TYPE_CHECKING:
    from indrel.gather.parsing import ParserPool
    from indrel.sources.options import GatherOptions

RUNS = "indrel-runs"
SUFFIX = ".indrel"
_CREDENTIAL = re.compile("auth|cookie|token|key|session|secret", re.IGNORECASE)


@dataclass(frozen=True)
class Gathered:
    """Where the facts are kept, and what cut the gathering short, if anything did."""

    snapshot: Path
    cut_short: IndrelError | None = None
    pages: int = 0


_BARE_HOST = re.compile(r"^(localhost|[\w-]+(\.[\w-]+)*\.[a-z][a-z0-9-]+)(:[0-9]+)?(/|$)", re.IGNORECASE)


def with_scheme(source: str, options: GatherOptions) -> str:
    """A host named without a scheme, with the one that it answers: https is asked, then http. Anything else as it is."""
    if "://" in source or Path(source).exists() or not _BARE_HOST.match(source):
        return source
    import asyncio

    from indrel.sources.fetch import Fetcher

    async def answers(url: str) -> bool:
        async with Fetcher(options, [origin_of(url)]) as fetcher:
            return (await fetcher.get(url, 1 << 16, tries=1)).status is not None

    rest = source if "/" in source else source + "/"
    secure, plain = (normalise(f"{scheme}://{rest}") for scheme in ("https", "http"))
    if secure is None or plain is None:
        return source
    return plain if not asyncio.run(answers(secure)) and asyncio.run(answers(plain)) else secure


_USER = re.compile(r"^(?P<scheme>https?://)(?P<user>[^/?#@]+)@", re.IGNORECASE)


def with_credentials(source: str, options: GatherOptions) -> tuple[str, GatherOptions]:
    """An address without its `user:password@`, which goes as a header to its own origin alone, as a browser sends it."""
    found = _USER.match(source)
    if not found:
        return source, options
    import base64

    user, _, password = found["user"].partition(":")
    pair = base64.b64encode(f"{unquote(user)}:{unquote(password)}".encode()).decode()
    headers = (*options.headers, ("Authorization", f"Basic {pair}"))
    return found["scheme"] + source[found.end() :], replace(options, headers=headers)


def source_kind(source: str) -> str:
    """`site`, `folder`, `warc` or `snapshot`: what was named. Raises UsageError where it is none of them."""
    if source.startswith(("http://", "https://")):
        if normalise(source) is None:
            raise UsageError(f"{source} is not an address: write it as https://www.sarnfell.example/")
        return "site"
    path = Path(source)
    if path.is_dir():
        return "folder"
    if path.is_file():
        return "warc" if path.name.lower().endswith((".warc", ".warc.gz")) else "snapshot"
    if re.match(r"^[a-z][a-z0-9+.-]*://", source, re.IGNORECASE):
        raise UsageError(
            f"{source} cannot be audited: give an http or https address, a folder, a WARC file or a snapshot"
        )
    if _BARE_HOST.match(source):
        return "site"
    raise InputError(f"{source} is neither a folder, a file nor an address (addresses begin with http:// or https://)")


def new_snapshot_path(host: str, folder: Path | None = None) -> Path:
    """A name for a new snapshot of a host: `indrel-runs/HOST-20261123T080000Z.indrel`."""
    moment = datetime.now(UTC)
    while True:
        stamp = moment.strftime("%Y%m%dT%H%M%SZ")
        path = (folder or Path(RUNS)) / f"{re.sub(r'[^A-Za-z0-9.-]', '_', host)}-{stamp}{SUFFIX}"
        if not path.exists():
            return path
        moment += timedelta(seconds=1)  # two audits in one second


def newest_snapshot(folder: Path | None = None, host: str | None = None) -> Path:
    """The newest snapshot kept by `indrel audit` (of a host, if one is given)."""
    where = folder or Path(RUNS)
    prefix = re.sub(r"[^A-Za-z0-9.-]", "_", host) + "-" if host else ""
    found = [p for p in where.glob(f"*{SUFFIX}") if p.name.startswith(prefix)]
    if not found:
        raise SnapshotError(f"no snapshot in {where}/: run `indrel audit ADDRESS` first, or name a snapshot")
    return max(found, key=lambda p: (p.stat().st_mtime_ns, p.name))


def snapshot_for(text: str | None = None) -> Path:
    """The snapshot that is meant where none is named: of an address given in full the newest of its host."""
    host = split(text).host if text and "://" in text and normalise(text) else None
    return newest_snapshot(host=host)


def gather(
    source: str,
    options: GatherOptions,
    snapshot: Path | None = None,
    resume: bool = False,
    pool: ParserPool | None = None,
) -> Gathered:
    """Read a site, a folder or a WARC file into a snapshot.

    What cuts the gathering short is given back beside the snapshot, in which everything gathered
    until then is kept. Raises UsageError where nothing can be gathered at all.
    """
    from indrel.gather.parsing import ParserPool

    source, options = with_credentials(source, options)
    if options.render and source_kind(source) != "snapshot":
        from indrel.sources.browser.launch import try_out

        try_out(options.browser, options.sandbox)
    pool = pool or ParserPool()
    try:
        kind = source_kind(source)
        if kind == "site":
            return _gather_site(source, options, snapshot, resume, pool)
        if kind == "warc":
            return _gather_archive(Path(source), options, snapshot, pool)
        return _gather_folder(Path(source), options, snapshot, pool)
    finally:
        pool.close()


def _begin(path: Path, kind: str, location: str, options: GatherOptions, base: str) -> SnapshotWriter:
    from indrel.gather.recorder import now

    writer = SnapshotWriter(path)
    writer.set_meta(
        source={"kind": kind, "location": location},
        base=base,
        started=now(),
        finished=None,
        complete=False,
        incomplete_because="the audit was broken off",
        crawlers=[c.token for c in options.crawlers],
        hosts=sorted({site_key(base), *options.hosts}),
        follow_links=options.follow_links,
        read_barred=options.read_barred,
        as_crawlers=options.as_crawlers,
        user_parts=list(options.user_parts),
        with_credentials=any(_CREDENTIAL.search(name) for name, _ in options.headers),
    )
    return writer


def _gather_site(
    source: str, options: GatherOptions, snapshot: Path | None, resume: bool, pool: ParserPool
) -> Gathered:
    from indrel.gather.recorder import Recorder
    from indrel.sources.site import LiveSite

    start = normalise(with_scheme(source, options))
    assert start is not None
    host = split(start).host
    if resume:
        path = snapshot or newest_snapshot(host=host)
        writer = SnapshotWriter(path, resume=True)
        if writer.meta.get("base", start) != start:  # none: it was killed as it began
            raise UsageError(f"{path} is an audit of {writer.meta.get('base')}: resume it with that address")
        if not writer.meta.get("prepared"):  # it never came to the pages: there is nothing to go on from
            writer.close()
            writer = _begin(path, "site", start, options, start)
    else:
        path = snapshot or new_snapshot_path(host)
        writer = _begin(path, "site", start, options, start)
    with writer:
        recorder = Recorder(writer, [site_key(start), *options.hosts])
        site = LiveSite(start, recorder, pool, options)
        cut: IndrelError | None = None
        try:
            site.gather()
        except (AuditCutShort, Interrupted) as error:
            cut = error
        because = str(cut) if cut else None
        if site.limit_hit and not cut:
            because = f"--limit {options.limit} was reached"
        elif not options.follow_links and not cut:
            because = "links were not followed (--no-follow-links)"
        recorder.finish(because is None, because)
    return Gathered(path, cut, recorder.pages)


def ask_again(old: Path, new: Path, urls: Iterable[str], options: GatherOptions) -> Gathered:
    """A copy of a live site's snapshot in which some addresses, robots.txt and the sitemaps are asked for again.

    Raises UsageError for snapshots of folders: those are read whole in no time.
    """
    from indrel.gather.parsing import ParserPool
    from indrel.gather.recorder import Recorder, now
    from indrel.sources.site import LiveSite

    with Snapshot(old) as before:
        meta = before.meta
    if meta["source"]["kind"] != "site":
        raise UsageError(f"{old} is of a {meta['source']['kind']}: audit it again, it is read whole")
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
            cut: IndrelError | None = None
            try:
                site.gather()
            except (AuditCutShort, Interrupted) as error:
                cut = error
            because = str(cut) if cut else meta.get("incomplete_because")
            recorder.finish(because is None, because)
    finally:
        pool.close()
    return Gathered(new, cut)


def _forget(writer: SnapshotWriter, urls: frozenset[str]) -> None:
    """Take out what is to be asked for again."""
    con = writer.con
    con.execute("BEGIN")
    con.execute(
        "CREATE TEMP TABLE again AS SELECT id FROM address WHERE origin || path IN (SELECT unnest(?::VARCHAR[]))",
        [sorted(urls)],
    )
    own = {
        "answer": "address",
        "page": "address",
        "directive": "address",
        "canonical": "address",
        "as_crawler": "address",
        "render": "address",
        "render_directive": "address",
        "render_canonical": "address",
    }
    own |= {"link": "source", "resource": "source", "alternate": "source", "slip": "source"}
    own |= {"render_link": "source", "render_request": "source"}
    for table, column in own.items():
        con.execute(f"DELETE FROM {table} WHERE {column} IN (SELECT id FROM again)")
    origins = sorted({origin_of(u) for u in urls} | {origin_of(str(writer.meta["base"]))})
    con.execute("DELETE FROM robots WHERE origin IN (SELECT unnest(?::VARCHAR[]))", [origins])
    con.execute("DELETE FROM robots_as")
    con.execute("DELETE FROM sitemap")
    con.execute("DELETE FROM entry")
    con.execute("DELETE FROM elsewhere")
    con.execute("COMMIT")


def _gather_folder(folder: Path, options: GatherOptions, snapshot: Path | None, pool: ParserPool) -> Gathered:
    from indrel.gather.recorder import Recorder
    from indrel.sources.folder import STAND_IN, Folder, find_base, list_files

    base = normalise(options.base) if options.base else find_base(folder, list_files(folder, options.links_out).files)
    if options.base and base is None:
        raise UsageError(f"--base {options.base} is not an address: write it as https://www.sarnfell.example/")
    if base is None:
        base = STAND_IN
        options.progress.note(f"nothing names the address of {folder}: it is shown as {STAND_IN} (say --base ADDRESS)")
    if not base.endswith("/"):
        base += "/"
    path = snapshot or new_snapshot_path(split(base).host)
    existed = path.exists()
    writer = _begin(path, "folder", str(folder), options, base)
    try:
        with writer:
            recorder = Recorder(writer, [site_key(base), *options.hosts])
            source = Folder(folder, base, recorder, pool, options)
            cut: IndrelError | None = None
            try:
                source.gather()
            except Interrupted as error:
                cut = error
            because = str(cut) if cut else f"--limit {options.limit} was reached" if source.limit_hit else None
            recorder.finish(because is None, because)
    except InputError:
        if not existed:
            path.unlink(missing_ok=True)
        raise
    return Gathered(path, cut, recorder.pages)


def _gather_archive(file: Path, options: GatherOptions, snapshot: Path | None, pool: ParserPool) -> Gathered:
    from indrel.gather.recorder import Recorder
    from indrel.sources.archive import Archive

    archive = Archive(file, options)
    path = snapshot or new_snapshot_path(split(archive.base).host)
    existed = path.exists()
    # An archive is always read whole, what robots.txt bars too.
    writer = _begin(path, "warc", str(file), replace(options, read_barred=True), archive.base)
    try:
        with writer:
            recorder = Recorder(writer, [site_key(archive.base), *options.hosts])
            because = archive.gather(recorder, pool)
            recorder.finish(because is None, because)
    except InputError:
        if not existed:
            path.unlink(missing_ok=True)
        raise
    return Gathered(path, AuditCutShort(archive.fault) if archive.fault else None)


def load_intent(file: Path | None) -> Intent:
    """The intent file named, or `indrel.toml` in the working folder if it is there; else an empty one."""
    path = file or Path(DEFAULT_NAME)
    return read_intent(path, checks()) if file or path.is_file() else Intent()


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


def page_address(text: str, site: Site) -> str:
    """The address a user means: whole, or a path on the snapshot's site."""
    url = normalise(text) if "://" in text else normalise(text if text.startswith("/") else "/" + text, site.base)
    if url is None:
        raise UsageError(f"{text} is not an address: give one in full, or its path on {origin_of(site.base)}")
    return url
