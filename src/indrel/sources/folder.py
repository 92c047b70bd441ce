"""A folder of built files, answered as a plain file server would.

`a/index.html` is `/a/`; `a.html` answers `/a.html`, or `/a` where that is how it is linked; a folder
without its slash redirects. Symbolic links to folders are not entered (they give files many addresses).
"""

from __future__ import annotations

import contextlib
import mimetypes
import os
import re
import shlex
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from urllib.parse import quote, unquote_to_bytes

from indrel.base.arrow import pa
from indrel.base.errors import InputError, UsageError
from indrel.base.plain import clip
from indrel.core.address import normalise, origin_of, site_key
from indrel.core.robots import parse as parse_robots
from indrel.core.robots.file import READ_BYTES
from indrel.core.sitemap import Child, Entry, Found, SitemapReader, SitemapWalk, announced, on_its_host, usual_folders
from indrel.gather.answers import Answer
from indrel.gather.parsing import PageTask, ParserPool, parse_in_order
from indrel.gather.recorder import Recorder, robots_row
from indrel.snapshot.columns import transaction
from indrel.sources.options import GatherOptions

BATCH = 24
DEEPEST = 200
"""Folders below one another that are read."""

DEEPEST_BASE = 4
FEWEST_NAMED = 5
MOST_EXPLAINED = 0.9
"""A base is doubted where this share of what is missing, and at least so many addresses, would be there under another."""

STAND_IN = "https://folder.invalid/"
"""Where a folder stands that nothing names an address for."""

_NAMES = re.compile(
    rb"<link[^>]{0,300}rel=[\"']?canonical[^>]{0,300}?href=[\"']?(https?://[^\"'\s>]+)"
    rb"|<link[^>]{0,300}href=[\"']?(https?://[^\"'\s>]+)[^>]{0,300}?rel=[\"']?canonical|<loc>\s*(https?://[^<\s]+)",
    re.IGNORECASE,
)
_HTML = (".html", ".htm", ".xhtml")


def find_base(folder: Path, files: list[str]) -> str | None:
    """The start address that most canonicals, or the sitemap, name.

    Where a page's canonical ends with the page's own place in the folder, what stands before it is
    where the folder will stand; else the host is all that can be told.
    """
    hosts: Counter[str] = Counter()
    pages = [f for f in files if f.endswith(_HTML)]
    places = {_page_path(f) for f in pages} | set(pages)
    looked = pages[:300] + [f for f in files if f.endswith("sitemap.xml")][:3]
    for name in looked:
        is_page = name.endswith(_HTML)
        with contextlib.suppress(OSError), (folder / name).open("rb") as file:
            for found in _NAMES.finditer(file.read(100_000)):
                url = normalise((found[1] or found[2] or found[3]).decode("utf-8", "replace"))
                if url:
                    own = _stands_for(url, {name, _page_path(name)} if is_page else places)
                    hosts[origin_of(url) + "/" if own is None else url[: len(url) - len(own)]] += 1
    return min(hosts, key=lambda h: (-hosts[h], h)) if hosts else None


def _stands_for(url: str, places: set[str]) -> str | None:
    """The place in the folder that an address ends with, the longest; None where it ends with none."""
    start = url.index("/", url.index("://") + 3) + 1
    while start <= len(url):
        rest = url[start:]
        if rest in places:
            return rest
        after = url.find("/", start)
        if after < 0:
            return "" if "" in places and url.endswith("/") else None
        start = after + 1
    return None


def _page_path(name: str) -> str:
    """The place of a file below the base, as addresses write it; empty for the start page."""
    head, _, tail = name.rpartition("/")
    return (head + "/" if head else "") if tail.lower() in ("index.html", "index.htm") else name


@dataclass
class Listing:
    """Files below a folder, relative, in order; and what was left out: links that lead out of it, and what is no file."""

    files: list[str] = field(default_factory=list)
    outside: list[str] = field(default_factory=list)
    deep: list[str] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)

    def notes(self) -> list[str]:
        """What a reader has to know of what was left out."""
        found = []
        for names, why in (
            (self.outside, "leads out of the folder (see --follow-symlinks)|lead out of the folder (see --follow-symlinks)"),
            (self.odd, "is not a file|are not files"),
            (self.deep, f"is more than {DEEPEST} folders deep|are more than {DEEPEST} folders deep"),
        ):  # fmt: skip
            if names:
                one, many = why.split("|")
                found.append(
                    f"{len(names):,} skipped, such as {clip(shown(names[0]), 80)}: {one if len(names) == 1 else many}"
                )
        return found


def list_files(folder: Path, links_out: bool = False) -> Listing:
    """What is below a folder. Symbolic links to folders are entered only with `links_out`, each folder once."""
    found = Listing()
    top = os.path.realpath(folder)
    entered = {top}
    for root, folders, names in _walk(folder, links_out, found.deep):
        inside = os.path.relpath(root, folder)
        prefix = "" if inside == "." else f"{inside}/"
        for name in list(folders):
            path = os.path.join(root, name)
            if os.path.islink(path):
                real = os.path.realpath(path)
                if not links_out and not _is_inside(real, top):
                    found.outside.append(prefix + name)
                elif links_out and real in entered:
                    folders.remove(name)
                entered.add(real)
        folders.sort()
        for name in names:
            path = os.path.join(root, name)
            if not links_out and os.path.islink(path) and not _is_inside(os.path.realpath(path), top):
                found.outside.append(prefix + name)
            elif not os.path.isfile(path):  # a pipe, a device, a link to nothing: reading it may never end
                found.odd.append(prefix + name)
            else:
                found.files.append(prefix + name)
    for one in (found.files, found.outside, found.odd):
        one.sort()
    return found


def _walk(top: Path, links_out: bool, deep: list[str]) -> Iterator[tuple[str, list[str], list[str]]]:
    """Each folder with its folders, which the caller may remove from the list, and other names; no deeper than `DEEPEST`."""
    waiting = [(str(top), 0)]
    while waiting:
        root, depth = waiting.pop()
        folders: list[str] = []
        names: list[str] = []
        with contextlib.suppress(OSError), os.scandir(root) as entries:
            for entry in entries:
                (folders if entry.is_dir() else names).append(entry.name)
        yield root, folders, names
        below = [os.path.join(root, name) for name in reversed(folders)]
        if depth == DEEPEST:
            deep += [os.path.relpath(path, top) for path in below]
        else:
            waiting += [(path, depth + 1) for path in below if links_out or not os.path.islink(path)]


def _is_inside(path: str, top: str) -> bool:
    return path == top or path.startswith(top.rstrip("/") + "/")


def shown(name: str) -> str:
    """A file's name as text: bytes that are no UTF-8 are escaped."""
    return os.fsencode(name).decode("utf-8", "backslashreplace")


class BuiltFolder:
    """A folder of built pages as is named, and where it will stand."""

    resumes = False

    def __init__(self, named: str, options: GatherOptions) -> None:
        self.location, self.options = named, options
        self.base = self._base(Path(named))

    def _base(self, folder: Path) -> str:
        said = self.options.base
        base = normalise(said) if said else find_base(folder, list_files(folder, self.options.links_out).files)
        if said and base is None:
            raise UsageError(f"--base {said} is not a URL: write it like https://www.sarnfell.example/")
        if base is None:
            base = STAND_IN
            told = f"nothing names the URL of {folder}: it is shown as {STAND_IN} (use --base URL)"
            self.options.progress.note(told)
        return base if base.endswith("/") else base + "/"

    def gather(self, recorder: Recorder, pool: ParserPool) -> str | None:
        """Read it; see `Source`."""
        folder = Folder(Path(self.location), self.base, recorder, pool, self.options)
        folder.gather()
        return f"--limit {self.options.limit} was reached" if folder.limit_hit else None


class Folder:
    """Gathers a folder into a recorder whose site is the base's host."""

    def __init__(self, folder: Path, base: str, recorder: Recorder, pool: ParserPool, options: GatherOptions) -> None:
        self.folder = folder
        self.base = base
        self.recorder = recorder
        self.pool = pool
        self.options = options
        self.listing = list_files(folder, options.links_out)
        self.files = self.listing.files
        self._names = set(self.files)
        self._left_out = {*self.listing.outside, *(n for n in self.listing.odd if (folder / n).exists())}
        self._folders = {os.path.dirname(f) for f in self.files}
        self._number_of: dict[str, int] = {}
        self._slashless: dict[int, int] = {}
        self._announced: list[tuple[str, int]] = []
        self.limit_hit = False
        recorder.same = self._own_address

    def _own_address(self, url: str) -> str:
        """`x/index.html` is `x/`: a folder has one file for both."""
        if not url.startswith(self.base) or not url.endswith(("/index.html", "/index.htm")):
            return url
        return (
            url[: url.rindex("/") + 1] if os.fsdecode(unquote_to_bytes(url[len(self.base) :])) in self._names else url
        )

    def gather(self) -> None:
        """Read everything. Raises InputError where there is no page, Interrupted when stopped."""
        pages = [f for f in self.files if f.lower().endswith(_HTML)]
        if not pages:
            raise InputError(f"{self.folder} has no HTML file: give the folder to which a build wrote its pages")
        self.recorder.give(self.base, self.options.also)
        self._robots()
        self._sitemaps()
        if self.options.limit is not None and len(pages) > self.options.limit:
            pages, self.limit_hit = pages[: self.options.limit], True
        self._pages(pages)
        self._referenced()
        if self.options.render:
            from indrel.sources.stored_rendering import render_folder

            render_folder(self)
            self._referenced()
        self.recorder.commit(force=True)
        self.recorder.writer.set_meta(notes=self.listing.notes() + self._doubts() + self._elsewhere())

    def address(self, name: str) -> str:
        """The address at which a file stands."""
        path = _page_path(name)
        quoted = path.replace("%", "%25").replace("?", "%3F").replace("#", "%23")
        if not path.isprintable() or shown(path) != path:
            quoted = quote(os.fsencode(path))
        return normalise(quoted, self.base) or self.base

    # ---------------------------------------------------------------- pages

    def _pages(self, names: list[str]) -> None:
        batches = (self._tasks(names[i : i + BATCH]) for i in range(0, len(names), BATCH))
        for parsed in parse_in_order(self.pool, batches):
            self.recorder.parsed(parsed)
            self.recorder.commit()
            self.options.progress.update(self.recorder.pages, len(names) - self.recorder.pages, str(self.folder))

    def _tasks(self, names: list[str]) -> list[PageTask]:
        tasks, rows = [], []
        for name in names:
            url, path = self.address(name), self.folder / name
            size = path.stat().st_size if path.is_file() else 0
            rows.append(self.recorder.answer_row(url, 200, media_type="text/html", octets=size, file=shown(name)))
            number = self._number_of[name] = self.recorder.id(url)
            tasks.append(
                PageTask(number, url, str(path), user_parts=self.options.user_parts, xhtml=name.endswith(".xhtml"))
            )
        self.recorder.writer.add("answer", rows)
        return tasks

    # ---------------------------------------------------------------- URLs that are referred to

    def _referenced(self) -> None:
        """Answer every address of the base that something names but that is no page's own; what pages only need to be
        rendered (scripts, styles, images) is no address of the site, as in a crawl."""
        writer = self.recorder.writer
        writer.commit()
        rows = writer.con.execute(
            """SELECT id, origin || path FROM address WHERE site AND id NOT IN (SELECT address FROM answer)
            AND origin = ? AND id NOT IN (SELECT target FROM resource WHERE target IS NOT NULL EXCEPT (
                SELECT target FROM link UNION SELECT address FROM entry UNION SELECT target FROM canonical
                UNION SELECT target FROM alternate UNION SELECT refresh FROM page UNION SELECT address FROM given)) ORDER BY id""",
            [origin_of(self.base)],
        ).fetchall()
        self._slashless = dict(
            writer.con.execute(
                """SELECT c.target, c.address FROM canonical c JOIN address a ON a.id = c.address JOIN address t ON t.id = c.target
                WHERE NOT c.in_body AND t.origin = a.origin AND a.path = t.path || '/'"""
            ).fetchall()
        )
        aliases = [found for number, url in rows if url.startswith(self.base) for found in self._answer(number, url)]
        writer.commit()
        if aliases:
            self._alias(aliases)

    def _answer(self, number: int, url: str) -> list[tuple[int, int]]:
        """Answer one address; where a page's file answers, give the address and that page's own."""
        name = self._file_name(url)
        page = next((n for n in (name, name + ".html", name + ".htm") if n in self._number_of), None)
        if page is not None:
            return [(number, self._number_of[page])]
        if number in self._slashless:  # `x/index.html` that calls itself `/x` is meant to be served there
            return [(number, self._slashless[number])]
        if self._is_left_out(name):
            return []  # it is there, and was not looked at: unread
        if name in self._names:
            media = mimetypes.guess_type(name)[0] or "application/octet-stream"
            row = self.recorder.answer_row(url, 200, media_type=media, file=shown(name))
        elif name in self._folders and not url.endswith("/"):
            row = self.recorder.answer_row(url, 301, target=url + "/", location=url + "/")
        elif url == self.base:
            return []  # a part of a site: its start page stands elsewhere
        else:
            row = self.recorder.answer_row(url, 404)
        self.recorder.writer.add("answer", [row])
        return []

    def leaves_out(self, url: str) -> bool:
        """Whether an address of the base is a file's that was not looked at."""
        return self._is_left_out(self._file_name(url))

    def file_of(self, url: str) -> Path | None:
        """The file that answers an address of the base, as a plain server would; None where none does."""
        found = self._served_by(self._file_name(url))
        return None if found is None else self.folder / found

    def _served_by(self, name: str) -> str | None:
        return next((n for n in (name, f"{name}.html", f"{name}.htm", f"{name}/index.html") if n in self._names), None)

    def _is_left_out(self, name: str) -> bool:
        """Whether a file, or a folder that it is in, was left out; a link to nothing is as good as absent."""
        pieces = name.split("/")
        places = {"/".join(pieces[: n + 1]) for n in range(len(pieces))}
        return any(p in self._left_out for p in places)

    def _path(self, url: str) -> str:
        """What an address of the base names below it, as files are named."""
        return os.fsdecode(unquote_to_bytes(url[len(self.base) :].partition("?")[0]))

    def _file_name(self, url: str) -> str:
        path = self._path(url)
        return path + "index.html" if path.endswith("/") or not path else path

    def _alias(self, aliases: list[tuple[int, int]]) -> None:
        """Let addresses answer with other addresses' pages; a page's own address goes if nothing names it."""
        con = self.recorder.writer.con
        con.execute("CREATE TEMP TABLE alias (number INTEGER, page INTEGER)")
        con.register("incoming", pa.table({"number": [a for a, _ in aliases], "page": [p for _, p in aliases]}))
        con.execute("INSERT INTO alias SELECT * FROM incoming")
        con.unregister("incoming")
        con.execute(
            """CREATE TEMP TABLE unnamed AS SELECT DISTINCT page FROM alias JOIN address a ON a.id = page
            WHERE (NOT regexp_matches(a.path, '(/|/index\\.html?)$') OR number IN (SELECT target FROM canonical WHERE address = page))
            AND page NOT IN (
                SELECT target FROM link UNION SELECT address FROM entry WHERE address IS NOT NULL
                UNION SELECT target FROM canonical WHERE target IS NOT NULL UNION SELECT address FROM given)"""
        )
        own = {"answer": "address", "page": "address", "directive": "address", "canonical": "address"}
        own |= {"link": "source", "resource": "source", "alternate": "source", "slip": "source"}
        with transaction(con):
            for table, column in own.items():
                con.execute(
                    f"INSERT INTO {table} SELECT t.* REPLACE (alias.number AS {column}) FROM {table} t "
                    f"JOIN alias ON t.{column} = alias.page"
                )
                con.execute(f"DELETE FROM {table} WHERE {column} IN (SELECT page FROM unnamed)")
            con.execute("DELETE FROM address WHERE id IN (SELECT page FROM unnamed)")
        con.execute("DROP TABLE unnamed; DROP TABLE alias")

    def _doubts(self) -> list[str]:
        """Whether the folder stands elsewhere than was thought: what its pages name is not there, but would be there."""
        rows = self.recorder.writer.con.execute(
            """SELECT a.path FROM address a LEFT JOIN answer n ON n.address = a.id
            WHERE a.origin = ? AND coalesce(n.status, 404) = 404 AND a.id IN (SELECT target FROM link) ORDER BY a.path""",
            [origin_of(self.base)],
        ).fetchall()
        here = self.base[len(origin_of(self.base)) :]
        found: Counter[str] = Counter()
        for (path,) in rows:
            pieces = path.partition("?")[0].split("/")[1:-1][:DEEPEST_BASE]
            for prefix in {"/", *("/" + "/".join(pieces[: n + 1]) + "/" for n in range(len(pieces)))} - {here}:
                found[prefix] += self._is_there(path.partition("?")[0][len(prefix) :])
        best = min(found, key=lambda prefix: (-found[prefix], prefix), default=None)
        if best is None or found[best] < FEWEST_NAMED or found[best] < MOST_EXPLAINED * len(rows):
            return []
        return [
            f"{found[best]:,} of {len(rows):,} URLs that {self.base} lacks are files here if the folder is published at "
            f"{origin_of(self.base)}{best}: it probably is (use --base {shlex.quote(origin_of(self.base) + best)})"
        ]

    def _elsewhere(self) -> list[str]:
        """Where a part of a site holds almost not anything of what its canonicals and sitemaps name, that stands in other parts:
        what would be in folders that are not here is left unread."""
        con = self.recorder.writer.con
        rows = con.execute(
            """SELECT a.id, a.origin || a.path, coalesce(n.status = 404, false),
                a.id IN (SELECT target FROM canonical UNION SELECT address FROM entry)
            FROM address a JOIN answer n ON n.address = a.id WHERE a.origin = ? ORDER BY a.id""",
            [origin_of(self.base)],
        ).fetchall()
        promised = [missing for _, url, missing, named in rows if named and url.startswith(self.base)]
        is_part = all(url != self.base for _, url, _, _ in rows)
        if not is_part or sum(promised) < FEWEST_NAMED or sum(promised) < MOST_EXPLAINED * len(promised):
            return []
        here = {None, *(name.partition("/")[0] for name in self.files if "/" in name)}
        away = [number for number, url, missing, _ in rows if missing and self._top(url) not in here]
        con.execute("DELETE FROM answer WHERE address IN (SELECT unnest(?::INTEGER[]))", [away])
        return [
            f"{sum(promised):,} of {len(promised):,} URLs that canonicals and sitemaps name have no file here: those of folders "
            "that are not here are left unread"
        ]

    def _top(self, url: str) -> str | None:
        """The first folder that an address names below the base; the base itself is here."""
        first, slash, _ = self._path(url).partition("/")
        return first if slash else None

    def _is_there(self, path: str) -> bool:
        name = os.fsdecode(unquote_to_bytes(path))
        name = name + "index.html" if name.endswith("/") or not name else name
        return self._is_left_out(name) or self._served_by(name) is not None

    # ---------------------------------------------------------------- robots.txt and sitemaps in the folder

    def _robots(self) -> None:
        """robots.txt counts only where the base is the host's root; of a part of a site without one, it stands elsewhere."""
        origin = origin_of(self.base)
        at_root = self.base == origin + "/"
        there = at_root and "robots.txt" in self._names
        known = there or (at_root and any(not _page_path(name) for name in self.files))
        body = self._read("robots.txt", READ_BYTES) if there else b""
        status = 200 if there else 404
        media = {"content-type": ["text/plain"]} if there else {}
        answer = Answer(f"{origin}/robots.txt", status, headers=media, body=body) if known else None
        self.recorder.writer.add("robots", [robots_row(origin, answer, "site", file="robots.txt" if there else None)])
        self.robots_body = body
        self._announced = [(line.value, line.line) for line in parse_robots(body).sitemaps]

    def _read(self, name: str, most: int) -> bytes:
        try:
            with (self.folder / name).open("rb") as file:
                return file.read(most)
        except OSError as error:
            raise InputError(f"{self.folder / name} cannot be read: {error.strerror}") from error

    def _sitemaps(self) -> None:
        by = origin_of(self.base)
        self._walk = SitemapWalk(
            announced((value, by, line) for value, line in self._announced), usual_folders(self.base)
        )
        for found in self._walk:
            self._sitemap(found)

    def _sitemap(self, found: Found) -> None:
        """Read one sitemap of the folder."""
        url = found.place
        reader, items = SitemapReader(), []
        name = self._file_name(url) if url.startswith(self.base) else ""
        there = name in self._names
        if there:
            try:
                with (self.folder / name).open("rb") as file:
                    while chunk := file.read(1 << 16):
                        items += reader.feed(chunk)
            except OSError as error:
                raise InputError(f"{self.folder / name} cannot be read: {error.strerror}") from error
            items += reader.close()
        elif found.via == "usual" or site_key(url) != site_key(self.base):
            return
        number = self.recorder.sitemap_number()
        self._walk.read(found, reader.summary, there)
        self.recorder.sitemap(
            number, url, found.via, reader.summary, parent=found.parent, line=found.line, status=200 if there else 404,
            origin=found.origin,
        )  # fmt: skip
        entries = [i for i in items if isinstance(i, Entry)]
        self.recorder.entries(number, entries, [normalise(e.loc) for e in entries])
        for child in self._walk.lists(
            found, number, [i for i in items if isinstance(i, Child)], partial(on_its_host, url)
        ):
            self.recorder.elsewhere(number, child.loc, child.line)
