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
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from urllib.parse import quote, unquote_to_bytes

from indrel.base.arrow import pa
from indrel.base.errors import InputError, UsageError
from indrel.core.address import normalise, origin_of, site_key
from indrel.core.page.facts import SHELL_WORDS
from indrel.core.robots import parse as parse_robots
from indrel.core.robots.file import READ_BYTES
from indrel.core.sitemap import Child, Entry, Found, SitemapReader, SitemapWalk, announced, on_its_host, usual_folders
from indrel.gather.answers import Answer
from indrel.gather.keeping import keep_headers
from indrel.gather.parsing import PageTask, ParserPool, parse_in_order
from indrel.gather.recorder import Recorder, robots_row
from indrel.snapshot.columns import transaction
from indrel.sources.frontier import spread
from indrel.sources.listing import list_files, shown
from indrel.sources.options import GatherOptions
from indrel.sources.static_host import HEADERS_FILE, RULES_FILE, StaticHost

BATCH = 24
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


class BuiltFolder:
    """A folder of built pages as is named, and where it will stand."""

    resumes = False

    def __init__(self, named: str, options: GatherOptions) -> None:
        self.location, self.options = named, options
        files = list_files(Path(named), options.links_out).files
        self._count = len(files)
        self.base = self._base(Path(named), files)

    def _base(self, folder: Path, files: list[str]) -> str:
        said = self.options.base
        base = normalise(said) if said else find_base(folder, files)
        if said and base is None:
            raise UsageError(f"--base {said} is not a URL: write it like https://www.sarnfell.example/")
        if base is None:
            base = STAND_IN
            told = f"nothing names the URL of {folder}: it is shown as {STAND_IN} (use --base URL)"
            self.options.progress.note(told)
        return base if base.endswith("/") else base + "/"

    @property
    def expected(self) -> int | None:
        return self._count

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
        self._number_of: dict[str, int] = {}
        self._fallen: list[int] = []
        self.host = StaticHost(
            self.files, options.host_style, options.fallback, self._text(RULES_FILE), self._text(HEADERS_FILE),
            base[len(origin_of(base)) :],
        )  # fmt: skip
        self._announced: list[tuple[str, int]] = []
        self.limit_hit = False
        self._left: frozenset[str] = frozenset()
        """Pages' files that are not read because of the limit."""

    def gather(self) -> None:
        """Read everything. Raises InputError where there is no page, Interrupted when stopped."""
        found = [f for f in self.files if f.lower().endswith(_HTML)]
        pages = [f for f in found if self.host.is_page_for_itself(f)] or found
        if not pages:
            raise InputError(f"{self.folder} has no HTML file: give the folder to which a build wrote its pages")
        self.recorder.give(self.base, self.options.also)
        self._robots()
        self._sitemaps()
        if self.options.limit is not None and len(pages) > self.options.limit:
            drawn = spread(pages, self.options.limit, "index.html")
            pages, self.limit_hit = drawn[: self.options.limit], True
            self._left = frozenset(drawn[self.options.limit :])
        self._pages(pages)
        self._find_fallback(pages)
        self._referenced()
        if self.options.render:
            from indrel.sources.stored_rendering import render_folder

            render_folder(self)
            self._referenced()
        self.recorder.commit(force=True)
        self.recorder.writer.set_meta(
            notes=self.listing.notes()
            + self.host.assumed(self.options.host_style is not None)
            + self._fallback_note()
            + self._doubts()
            + self._elsewhere()
        )

    def _text(self, name: str) -> str:
        return self._read(name, READ_BYTES).decode("utf-8", "replace") if name in self._names else ""

    def _find_fallback(self, pages: list[str]) -> None:
        """A lone page that only scripts fill is an app: its server returns it for every path."""
        if pages != ["index.html"] or self.host.fallback:
            return
        self.recorder.writer.commit()
        shell = self.recorder.writer.con.execute(
            "SELECT 1 FROM page WHERE own_words <= ? AND own_links = 0 AND scripts IS NOT NULL", [SHELL_WORDS]
        ).fetchall()
        self.host.fallback = "index.html" if shell else ""

    def _fallback_note(self) -> list[str]:
        return (
            [f"{self.host.fallback} is returned for {len(self._fallen):,} paths without a file"] if self._fallen else []
        )

    def address(self, name: str) -> str:
        """The address at which a file stands."""
        path = self.host.place(name)
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
            robots, links = self.host.sent(self.host.place(name))
            parts, xhtml = self.options.user_parts, name.endswith(".xhtml")
            tasks.append(PageTask(number, url, str(path), None, robots, links, parts, xhtml))
        self.recorder.writer.add("answer", rows)
        return tasks

    # ---------------------------------------------------------------- URLs that are referred to

    def _referenced(self) -> None:
        """Answer every address of the base that something names but that is no page's own; what pages only need to be
        rendered (scripts, styles, images) is no address of the site, as in a crawl."""
        urls: dict[int, str] = {}
        aliases: list[tuple[int, int]] = []
        while fresh := {number: url for number, url in self._unanswered() if number not in urls}:
            urls |= fresh  # answers redirect to further addresses
            for number, url in fresh.items():
                aliases += self._answer(number, url) if url.startswith(self.base) else []
        self.recorder.writer.commit()
        if aliases:
            self._alias(aliases)
            if self.host.headers:
                self._resend(urls, [number for number, _ in aliases])

    def _unanswered(self) -> list[tuple[int, str]]:
        self.recorder.writer.commit()
        return self.recorder.writer.con.execute(
            """SELECT id, origin || path FROM address WHERE site AND id NOT IN (SELECT address FROM answer)
            AND origin = ? AND id NOT IN (SELECT target FROM resource WHERE target IS NOT NULL EXCEPT (
                SELECT target FROM link UNION SELECT address FROM entry UNION SELECT target FROM canonical
                UNION SELECT target FROM alternate UNION SELECT refresh FROM page UNION SELECT address FROM given)) ORDER BY id""",
            [origin_of(self.base)],
        ).fetchall()

    def _resend(self, urls: Mapping[int, str], numbers: list[int]) -> None:
        """Headers are sent for the path that is requested, whatever file it gets."""
        for table in ("directive", "canonical"):
            condition = "address IN (SELECT unnest(?::INTEGER[])) AND origin = 1"
            self.recorder.writer.con.execute(f"DELETE FROM {table} WHERE {condition}", [numbers])
        for number in numbers:
            keep_headers(self.recorder, number, urls[number], *self.host.sent(self._path(urls[number])))

    def _answer(self, number: int, url: str) -> list[tuple[int, int]]:
        """Answer one address; where a page's file answers, give the address and that page's own."""
        path = self._path(url)
        reply = self.host.reply(path)
        name = reply.file
        if name in self._left:
            return []  # it is there, and nothing of it is known
        if name and name == self.host.fallback and name not in self._number_of:
            self._pages([name])
            self.recorder.writer.commit()
        if name in self._number_of:
            self._fallen += [number] if name == self.host.fallback and self.host.place(name) != path else []
            return [(number, self._number_of[name])]
        if self._is_left_out(path or "index.html") or (not name and url == self.base):
            return []  # it is there, and was not looked at; or the start page of a part of a site, which stands elsewhere
        if name:
            media = mimetypes.guess_type(name)[0] or "application/octet-stream"
            row = self.recorder.answer_row(url, 200, media_type=media, file=shown(name))
            keep_headers(self.recorder, number, url, *self.host.sent(path))
        elif reply.target:
            target = self._target(url, reply.target)
            row = self.recorder.answer_row(url, reply.status, target=target, location=target or reply.target)
        else:
            row = self.recorder.answer_row(url, reply.status)
        self.recorder.writer.add("answer", [row])
        return []

    def _target(self, url: str, target: str) -> str | None:
        """Where a redirect leads; one that only adds or removes the slash keeps the path as written."""
        bare = url.partition("?")[0]
        for own in (bare + "/", bare.rstrip("/")):
            if self.host.root + self._path(own) == target:
                return own
        return normalise(quote(target, safe="/:?#[]@!$&'()*+,;=%"), self.base)

    def leaves_out(self, url: str) -> bool:
        """Whether an address of the base is a file's that was not looked at."""
        return self._is_left_out(self._file_name(url))

    def file_of(self, url: str) -> Path | None:
        """The file that answers an address of the base, as a plain server would; None where none does."""
        found = self._served_by(self._path(url))
        return None if found is None else self.folder / found

    def _served_by(self, path: str) -> str | None:
        """The file that a path comes to, after a redirect within the folder."""
        reply = self.host.reply(path)
        if reply.target.startswith(self.host.root):
            reply = self.host.reply(reply.target.removeprefix(self.host.root))
        return reply.file or None

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
        if best is None or here.startswith(best):  # links that lack the base are a finding
            return []
        if found[best] < FEWEST_NAMED or found[best] < MOST_EXPLAINED * len(rows):
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
        return self._is_left_out(name) or self._served_by(name) not in (None, self.host.fallback)

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
