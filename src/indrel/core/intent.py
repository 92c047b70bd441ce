"""The intent file (TOML): what the owner wants of addresses, by pattern or kind, with reasons.

Only read and judged here; which addresses an entry holds for is decided where the addresses are.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from functools import cached_property
from pathlib import Path, PurePath
from typing import Any, NoReturn
from urllib.parse import quote

from indrel.base.errors import InputError
from indrel.base.sqltext import quoted, quoted_list
from indrel.core.address import host_name, normalise_percent, split
from indrel.core.model import Want
from indrel.core.page.tokens import CHOICE, nearest

DEFAULT_NAME = "indrel.toml"

KIND_NAMES = (
    "start", "article", "product", "listing", "category", "tag-archive", "author-archive", "date-archive", "numbered-page",
    "search-results", "parameter-variant", "feed", "embed", "attachment", "document", "login", "cart", "thank-you", "error",
    "template-fragment", "other",
)  # fmt: skip
"""Every kind that an address can have."""

ASSETS = (
    r"(?i)(^/robots\.txt|\.(js|mjs|cjs|css|map|json|xml|xsl|wasm|png|jpe?g|gif|svg|webp|avif|ico|bmp|woff2?|ttf|otf|eot|mp[34]|m4[av]|"
    r"webm|og[gv]|wav))(\?|$)"
)
"""Addresses of scripts, style sheets, images and data: no pages, whatever is wanted of pages."""

MAX_BYTES = 1 << 20
"""Size of an intent file that is read."""

_PART = r"""(?:"[^"\n]*"|'[^'\n]*'|[\w-]+)[ \t]*\.[ \t]*"""
_LONG_KEY = re.compile(rf"(?:^[ \t\[]*|[{{,][ \t]*)(?:{_PART}){{32}}", re.MULTILINE)
"""A key of more parts than any has: each part is a table, and 50,000 take gigabytes."""

_TOP = {"crawlers", "hosts", "want", "host", "links", "accept", "audit"}
_KEYS = {
    "want": {"match", "kind", "want", "because"},
    "host": {"name", "closed", "because"},
    "links": {"partners", "user_written", "because"},
    "accept": {"check", "match", "because", "until"},
    "audit": {"source", "base", "rate", "limit", "render", "output", "connect", "header", "because"},
}
_SAFE = "".join(map(chr, range(0x21, 0x7F)))


@dataclass(frozen=True)
class Match:
    """A pattern: `*` stands for any run of characters, the whole path and query must match.

    `host` is empty where none is named: then it holds on every host that is not declared closed.
    """

    text: str

    @property
    def fault(self) -> str | None:
        """Why it can match nothing."""
        if self.text.startswith(("/", "*", "http://", "https://")):
            return None
        return f"`{self.text}` matches nothing: a pattern begins with `/` (a path), `*` or `//host/`"

    @cached_property
    def host(self) -> str:
        rest = self.text.partition("//")[2] if self._names_host else ""
        return host_name(rest.partition("/")[0])

    @cached_property
    def path(self) -> str:
        text = self.text
        if self._names_host:
            _, slash, path = text.partition("//")[2].partition("/")
            text = slash + path or "/*"
        return normalise_percent(quote(text, safe=_SAFE))

    @property
    def _names_host(self) -> bool:
        return self.text.startswith(("//", "http://", "https://"))

    @cached_property
    def _patterns(self) -> tuple[re.Pattern[str], re.Pattern[str] | None]:
        return _glob(self.path), _glob(self.host) if self.host else None

    def holds(self, url: str, closed: frozenset[str] = frozenset()) -> bool:
        """Whether the pattern matches a normalised address."""
        parts = split(url)
        authority = parts.origin.partition("://")[2]
        path, host = self._patterns
        named = bool(host.fullmatch(authority)) if host else authority not in closed
        return named and bool(path.fullmatch(parts.path))

    def sql(self, closed: frozenset[str] = frozenset()) -> str:
        """The same as a condition over the columns `origin` and `path`."""
        condition = f"path LIKE {_like(self.path)} ESCAPE '\\'"
        authority = "substr(origin, strpos(origin, '://') + 3)"
        if self.host:
            return f"({condition} AND {authority} LIKE {_like(self.host)} ESCAPE '\\')"
        return f"({condition} AND {authority} NOT IN ({quoted_list(sorted(closed))}))" if closed else f"({condition})"


def _glob(pattern: str) -> re.Pattern[str]:
    return re.compile(".*".join(re.escape(piece) for piece in re.split(r"\*+", pattern)), re.DOTALL)


def _like(pattern: str) -> str:
    return quoted(re.sub(r"\*+", "%", re.sub(r"([\\%_])", r"\\\1", pattern)))


@dataclass(frozen=True)
class WantEntry:
    """One `[[want]]`: the last that matches decides."""

    match: Match | None
    kinds: tuple[str, ...]
    want: Want
    because: str
    line: int

    @property
    def text(self) -> str:
        """The entry in one line, as evidence shows it."""
        parts = [f'match = "{self.match.text}"'] if self.match else []
        parts += [f'kind = "{" ".join(self.kinds)}"'] if self.kinds else []
        return ", ".join([*parts, f'want = "{self.want}"'])

    @property
    def names_one(self) -> bool:
        """Whether it speaks of one address, rather than of all that a pattern or a kind reaches."""
        return self.match is not None and "*" not in self.match.text

    def sql(self, closed: frozenset[str]) -> str:
        """Whether it holds, over the columns `origin`, `path` and `kind`."""
        return _both(self.match, self.kinds, closed)

    @property
    def is_of_pages(self) -> bool:
        """`show` with a pattern that ends in `*` is about pages, not about their scripts, style sheets and images."""
        return self.want == Want.SHOW and self.match is not None and self.match.text.endswith("*")

    def holds(self, url: str, kind: str, closed: frozenset[str]) -> bool:
        if self.is_of_pages and re.search(ASSETS, split(url).path):
            return False
        return (not self.match or self.match.holds(url, closed)) and (not self.kinds or kind in self.kinds)


def _both(match: Match | None, kinds: tuple[str, ...], closed: frozenset[str]) -> str:
    conditions = [match.sql(closed)] if match else []
    conditions += [f"kind IN ({quoted_list(kinds)})"] if kinds else []
    return " AND ".join(conditions)


@dataclass(frozen=True)
class Acceptance:
    """One `[[accept]]`: findings of a check that are meant, until a day if one is given."""

    check: str
    match: Match | None
    because: str
    until: date | None
    line: int

    def holds(self, check: str, url: str, today: date) -> bool:
        """Whether a finding is accepted on a day; the last day still counts."""
        in_time = self.until is None or today <= self.until
        return in_time and check == self.check and (self.match is None or self.match.holds(url))


@dataclass(frozen=True)
class SiteAudit:
    """How the site is audited (`[audit]`): paths are as written, from the file's folder. `unused` are options that are only shown,
    because a file that came with a project must not choose where to connect, or what is sent there."""

    source: str = ""
    base: str = ""
    rate: float | None = None
    limit: int | None = None
    render: str = ""
    output: tuple[str, ...] = ()
    unused: tuple[str, ...] = ()


@dataclass(frozen=True)
class Intent:
    """What the owner wants. Without a file everything is empty and every want is implied."""

    where: str = ""
    text: str = ""
    crawlers: tuple[str, ...] = ()
    hosts: tuple[str, ...] = ()
    closed: frozenset[str] = frozenset()
    wants: tuple[WantEntry, ...] = ()
    partners: tuple[str, ...] = ()
    user_written: tuple[str, ...] = ()
    accepted: tuple[Acceptance, ...] = ()
    host_lines: Mapping[str, int] = field(default_factory=dict)
    audit: SiteAudit | None = None

    @property
    def all_hosts(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys([*self.hosts, *sorted(self.closed)]))

    def deciding(self, url: str, kind: str) -> list[WantEntry]:
        """The entries that match, the deciding one first, then the ones that it shadows."""
        return [e for e in reversed(self.wants) if e.holds(url, kind, self.closed)]


def read_intent(path: Path, checks: Iterable[str] = ()) -> Intent:
    """Read an intent file; see `parse_intent`. Raises InputError where it cannot be read."""
    try:
        with path.open("rb") as file:
            data = file.read(MAX_BYTES + 1)
        text = data.decode("utf-8-sig") if len(data) <= MAX_BYTES else ""
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise InputError(f"{path} is not UTF-8 text (byte {error.start + 1}): save it as UTF-8") from error
    if len(data) > MAX_BYTES:
        raise InputError(f"{path} is larger than {MAX_BYTES >> 20} MiB: an intent file is far smaller")
    return parse_intent(text, str(path), checks)


def parse_intent(text: str, where: str, checks: Iterable[str] = (), known_good: bool = False) -> Intent:
    """The intent that a text states. `where` is the file's name, `checks` the ids that `accept` may name.

    A text that is `known_good` was read before: what needs the HTML parser to be judged is not judged again.

    Raises InputError with file and line, and the nearest valid word, for anything it does not know.
    """
    if found := _LONG_KEY.search(text):
        line = text.count("\n", 0, found.end()) + 1
        raise InputError(f"{where}:{line}: a key with more than 32 dotted parts: no key here has more than one")
    try:
        doc = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # also a number of more digits than are read
        raise InputError(f"{where} is not TOML: {str(error)[:200]}") from error
    return _Reader(where, text, tuple(checks), known_good).read(doc)


class _Reader:
    """Turns a parsed document into an Intent; knows where things stand."""

    def __init__(self, where: str, text: str, checks: tuple[str, ...], known_good: bool = False) -> None:
        self.where = where
        self.known_good = known_good
        self.text_of_file = text
        self.lines = text.splitlines()
        self.checks = checks
        self._parts = self._tables()

    def _tables(self) -> dict[str | None, list[tuple[int, int]]]:
        """First and last line of each table, by name in their order; None: what stands before the first."""
        heads: list[tuple[str | None, int]] = [(None, 1)]
        for number, line in enumerate(self.lines, 1):
            if header := re.match(r"\s*\[+\s*([A-Za-z_]+)\s*\]+", line):
                heads.append((header[1], number))
        found: dict[str | None, list[tuple[int, int]]] = {}
        for (name, begin), (_, behind) in zip(heads, [*heads[1:], (None, len(self.lines) + 1)], strict=True):
            found.setdefault(name, []).append((begin, behind - 1))
        return found

    def fail(self, line: int, what: str) -> NoReturn:
        raise InputError(f"{self.where}:{line}: {what}")

    def line_of(self, table: str | None, index: int, key: str | None = None) -> int:
        """The line of a table (the index-th of its name) or of a key in it; 1 where it cannot be found."""
        parts = self._parts.get(table, [])
        if index >= len(parts):  # written inline: want = [{...}]
            return next((n for n, line in enumerate(self.lines, 1) if re.match(rf"\s*{table}\s*=", line)), 1)
        begin, end = parts[index]
        if key:
            sought = re.compile(rf"\s*[\"']?{re.escape(key)}[\"']?\s*[=.]")
            for number in range(begin, end + 1):
                if sought.match(self.lines[number - 1]):
                    return number
        return max(begin, 1)

    def word(self, word: Any, known: Iterable[str], what: str, line: int) -> str:
        """A word that must be one of some; else an error with the nearest."""
        words = sorted(known)
        if not isinstance(word, str) or word not in words:
            near = nearest(word, words, CHOICE) if isinstance(word, str) else None
            hint = f"did you mean `{near}`?" if near else f"choose one of {' '.join(words)}"
            self.fail(line, f"there is no {what} `{word}`; {hint}")
        return word

    def read(self, doc: dict[str, Any]) -> Intent:
        for key in doc:
            self.word(key, _TOP, "key", self.top_line(key))
        hosts, closed, lines = self.hosts(doc)
        links = doc.get("links", {})
        if not isinstance(links, dict):
            self.fail(self.line_of(None, 0, "links"), "`links` is a table: write it as [links]")
        self.keys("links", 0, links)
        self.text("links", 0, links, "because")
        return Intent(
            where=self.where,
            text=self.text_of_file,
            crawlers=self.texts(None, 0, "crawlers", doc.get("crawlers", [])),
            hosts=hosts,
            closed=closed,
            wants=tuple(self.want(i, one) for i, one in enumerate(self.tables(doc, "want"))),
            partners=tuple(h.lower() for h in self.texts("links", 0, "partners", links.get("partners", []))),
            user_written=self.selectors(links.get("user_written", [])),
            accepted=tuple(self.accept(i, one) for i, one in enumerate(self.tables(doc, "accept"))),
            host_lines=lines,
            audit=self.audit(doc["audit"]) if "audit" in doc else None,
        )

    def audit(self, found: Any) -> SiteAudit:
        if not isinstance(found, dict):
            self.fail(self.top_line("audit"), "`audit` is a table: write it as [audit]")
        self.keys("audit", 0, found)
        self.text("audit", 0, found, "because")
        numbers: dict[str, float | None] = {}
        for key, kind, what in (("rate", (int, float), "a number"), ("limit", (int,), "a whole number")):
            value = found.get(key)
            if value is not None and (
                not isinstance(value, kind) or isinstance(value, bool) or value < (key == "limit")
            ):
                self.fail(self.line_of("audit", 0, key), f"`{key}` is {what}, as {key} = {8 if key == 'rate' else 500}")
            numbers[key] = value
        outputs = self.texts("audit", 0, "output", found.get("output", []))
        for name in outputs:
            if PurePath(name).is_absolute() or ".." in PurePath(name).parts:
                self.fail(self.line_of("audit", 0, "output"), f"`{name}` is not below the folder of this file")
        render = self.text("audit", 0, found, "render")
        if render:
            self.word(render, ("sample", "all"), "value of render", self.line_of("audit", 0, "render"))
        unused = tuple(
            f"--{key} {value}"
            for key in ("connect", "header")
            for value in self.texts("audit", 0, key, found.get(key, []))
        )
        limit = numbers["limit"]
        return SiteAudit(
            self.text("audit", 0, found, "source"), self.text("audit", 0, found, "base"), numbers["rate"],
            int(limit) if limit is not None else None, render, outputs, unused,
        )  # fmt: skip

    def top_line(self, key: str) -> int:
        pattern = re.compile(rf"\s*(\[+\s*)?[\"']?{re.escape(key)}[\"']?\s*([=.\]])")
        return next((n for n, line in enumerate(self.lines, 1) if pattern.match(line)), 1)

    def tables(self, doc: dict[str, Any], name: str) -> list[dict[str, Any]]:
        found = doc.get(name, [])
        if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
            self.fail(self.top_line(name), f"`{name}` is a list of tables: write each as [[{name}]]")
        for index, one in enumerate(found):
            self.keys(name, index, one)
        return found

    def keys(self, table: str, index: int, found: dict[str, Any]) -> None:
        for key in found:
            self.word(key, _KEYS[table], f"key in [{table}]", self.line_of(table, index, key))

    def texts(self, table: str | None, index: int, key: str, value: Any) -> tuple[str, ...]:
        if not isinstance(value, list) or not all(isinstance(v, str) and v.strip() for v in value):
            self.fail(self.line_of(table, index, key), f'`{key}` is a list of texts, as {key} = ["..."]')
        return tuple(v.strip() for v in value)

    def text(self, table: str, index: int, found: dict[str, Any], key: str) -> str:
        value = found.get(key, "")
        if not isinstance(value, str):
            self.fail(self.line_of(table, index, key), f'`{key}` is a text, as {key} = "..."')
        return value.strip()

    def hosts(self, doc: dict[str, Any]) -> tuple[tuple[str, ...], frozenset[str], dict[str, int]]:
        names = [self.host_name(h, self.top_line("hosts")) for h in self.texts(None, 0, "hosts", doc.get("hosts", []))]
        closed, lines = set(), {}
        for index, one in enumerate(self.tables(doc, "host")):
            line = self.line_of("host", index)
            if "name" not in one:
                self.fail(line, 'a [[host]] needs a name, as name = "staging.sarnfell.example"')
            name = self.host_name(self.text("host", index, one, "name"), self.line_of("host", index, "name"))
            if not isinstance(one.get("closed", False), bool):
                self.fail(self.line_of("host", index, "closed"), "`closed` is true or false")
            self.text("host", index, one, "because")
            lines[name] = self.line_of("host", index, "closed" if "closed" in one else "name")
            names.append(name)
            if one.get("closed"):
                closed.add(name)
        return tuple(dict.fromkeys(names)), frozenset(closed), lines

    def host_name(self, text: str, line: int) -> str:
        name = re.sub(r"^https?://", "", text.strip().lower()).rstrip("/")
        if not re.fullmatch(r"[a-z0-9\u0080-\uffff._-]+(:[0-9]+)?|\[[0-9a-f:.]+\](:[0-9]+)?", name):
            self.fail(line, f"`{text}` is not a host name: write it as staging.sarnfell.example")
        return host_name(name)

    def match(self, table: str, index: int, found: dict[str, Any]) -> Match | None:
        text = self.text(table, index, found, "match")
        if "match" not in found:
            return None
        found_match = Match(text)
        if found_match.fault:
            self.fail(self.line_of(table, index, "match"), found_match.fault)
        return found_match

    def kinds(self, table: str, index: int, found: dict[str, Any]) -> tuple[str, ...]:
        value = found.get("kind", [])
        words = [value] if isinstance(value, str) else value
        line = self.line_of(table, index, "kind")
        if not isinstance(words, list):
            self.fail(line, '`kind` is a text, as kind = "tag-archive"')
        return tuple(self.word(w, KIND_NAMES, "kind", line) for w in words)

    def want(self, index: int, found: dict[str, Any]) -> WantEntry:
        line = self.line_of("want", index)
        match, kinds = self.match("want", index, found), self.kinds("want", index, found)
        if match is None and not kinds:
            self.fail(line, "a [[want]] needs `match` or `kind`, or both")
        if "want" not in found:
            self.fail(line, f"a [[want]] needs `want`: one of {' '.join(Want)}")
        want = self.word(found["want"], list(Want), "want", self.line_of("want", index, "want"))
        at = self.line_of("want", index, "match" if match else "kind")
        return WantEntry(match, kinds, Want(want), self.text("want", index, found, "because"), at)

    def accept(self, index: int, found: dict[str, Any]) -> Acceptance:
        line = self.line_of("accept", index)
        if "check" not in found:
            self.fail(line, "an [[accept]] needs the id of a check (indrel checks shows them)")
        check = found["check"]
        if self.checks:
            check = self.word(check, self.checks, "check", self.line_of("accept", index, "check"))
        until = found.get("until")
        at = self.line_of("accept", index, "until")
        if isinstance(until, str):
            try:
                until = date.fromisoformat(until.strip())
            except ValueError:
                self.fail(at, f"`until` is a day, as until = 2027-03-31, not `{until}`")
        if isinstance(until, datetime):
            until = until.date()
        if until is not None and not isinstance(until, date):
            self.fail(at, "`until` is a day, as until = 2027-03-31")
        match = self.match("accept", index, found)
        return Acceptance(check, match, self.text("accept", index, found, "because"), until, line)

    def selectors(self, value: Any) -> tuple[str, ...]:
        found = self.texts("links", 0, "user_written", value)
        if self.known_good:
            return found
        from indrel.core.page.html import is_selector

        for one in found:
            if not is_selector(one):
                self.fail(self.line_of("links", 0, "user_written"), f"`{one}` is not a CSS selector")
        return found
