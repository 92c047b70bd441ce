"""How a static host answers for a folder of files: which file is at a path, what redirects, what a fallback serves.

A build may say so itself, in `_redirects` and `_headers`: plain text files that several hosts read. A line of `_redirects` is
FROM TO [STATUS], where FROM may end in `*` (`:splat` in TO) or have `:names`; `_headers` has a path and, indented below it,
headers. Pure: names of files and texts in, answers out.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from indrel.base.errors import UsageError

SLASH, NO_SLASH, AS_WRITTEN = "slash", "no-slash", "html"
STYLES = {
    SLASH: "x/index.html is at /x/, and /x redirects there",
    NO_SLASH: "x/index.html and x.html are at /x, and /x/ redirects there",
    AS_WRITTEN: "files are at their names only",
}
"""By `--host-style`, what a host does."""

FALLBACK = "200.html"
"""The file that hosts return for paths without a file, by name."""

RULES_FILE, HEADERS_FILE = "_redirects", "_headers"
MOST_RULES = 2_000

_INDEX = re.compile(r"(?:^|/)index\.html?$", re.IGNORECASE)
_ERROR_PAGE = re.compile(r"^(?:40[0-9]|50[0-9x]|[45]xx|_?not[-_]found|_?error)(?:/index)?\.html?$", re.IGNORECASE)
_PAGE_LIKE = re.compile(r"(?:^|/)[^/.]*(?:\.html?)?$", re.IGNORECASE)


class Reply(NamedTuple):
    """What a path gets: a status, and the file that is returned or where a redirect leads (a path with a slash, or a URL)."""

    status: int
    file: str = ""
    target: str = ""


class Rule(NamedTuple):
    """A line of `_redirects`; `forced` ones hold even where a file is."""

    source: re.Pattern[str]
    target: str
    status: int
    forced: bool


def is_error_page(name: str) -> bool:
    """Whether a file is one that hosts return for errors: nobody visits it by name."""
    return _ERROR_PAGE.match(name) is not None


def _pattern(path: str) -> re.Pattern[str]:
    """The paths that a path of these files means; a slash at the end makes no difference."""
    parts = re.split(r"(\*|:[A-Za-z]\w*)", path.rstrip("/") or "/")
    made = "".join(
        r"(?P<splat>.*)" if part == "*" else rf"(?P<{part[1:]}>[^/]+)" if part[:1] == ":" else re.escape(part)
        for part in parts
    )
    return re.compile(made.replace(r"/(?P<splat>.*)", r"(?:/(?P<splat>.*))?") + "/?")


def _compiled(path: str) -> re.Pattern[str] | None:
    try:
        return _pattern(path)
    except re.error:  # a name given twice
        return None


def read_rules(text: str) -> list[Rule]:
    """The rules of a `_redirects` file; lines that are none are passed over."""
    found = []
    for line in text.splitlines()[:MOST_RULES]:
        words = line.partition("#")[0].split() if not line.lstrip().startswith("#") else []
        if len(words) < 2 or not words[0].startswith("/"):
            continue
        status = words[2].rstrip("!") if len(words) > 2 else "301"
        source = _compiled(words[0])
        if source is not None and status.isdigit() and "=" not in words[1]:
            found.append(Rule(source, words[1], int(status), len(words) > 2 and words[2].endswith("!")))
    return found


class HeaderRule(NamedTuple):
    """Headers of `_headers` for the paths that a pattern matches."""

    source: re.Pattern[str]
    headers: list[tuple[str, str]]


def read_headers(text: str) -> list[HeaderRule]:
    """The headers of a `_headers` file, by path."""
    found: list[HeaderRule] = []
    for line in text.splitlines()[:MOST_RULES]:
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        if not line[0].isspace():
            source = _compiled(line.strip()) if line.startswith("/") else None
            found += [HeaderRule(source, [])] if source is not None else []
        elif found and ":" in line:
            name, _, value = line.partition(":")
            found[-1].headers.append((name.strip().lower(), value.strip()))
    return found


class StaticHost:
    """Answers for the files of a folder. Paths are below the base, decoded, without a slash before them."""

    def __init__(
        self, files: Iterable[str], style: str | None = None, fallback: str | None = None, rules: str = "", headers: str = "",
        root: str = "/",
    ) -> None:  # fmt: skip
        """`root` is the path of the base; the texts are those of `_redirects` and `_headers`. Raises UsageError for a style or
        fallback that is not there."""
        if style is not None and style not in STYLES:
            raise UsageError(f"--host-style {style}: write one of {', '.join(STYLES)}")
        self.names = frozenset(files)
        self.style = style or SLASH
        if fallback is not None and fallback not in self.names:
            raise UsageError(f"--fallback {fallback}: the folder has no such file")
        self.fallback = fallback or (FALLBACK if FALLBACK in self.names else "")
        self.root = root
        self.rules = read_rules(rules)
        self.headers = read_headers(headers)

    def place(self, name: str) -> str:
        """The path at which a page's file stands; empty for the start page."""
        found = _INDEX.search(name)
        if found is None or self.style == AS_WRITTEN:
            return "" if found and "/" not in name else name
        folder = name[: found.start()]
        return folder if not folder or self.style == NO_SLASH else folder + "/"

    def is_page_for_itself(self, name: str) -> bool:
        """Whether a page's file is visited: an error page and a fallback stand for others."""
        return not is_error_page(name) and (name != self.fallback or _INDEX.search(name) is not None)

    def reply(self, path: str) -> Reply:
        """What a path gets, rules before what is missing."""
        found = self._file(path)
        for rule in self.rules:
            matched = rule.source.fullmatch(self.root + path) if rule.forced or not found.file else None
            if matched is not None:
                return self._by_rule(rule, matched)
        if found.status == 404 and self.fallback and _PAGE_LIKE.search(path.rstrip("/")):
            return Reply(200, self.fallback)
        return found

    def _by_rule(self, rule: Rule, matched: re.Match[str]) -> Reply:
        target = rule.target
        for name, value in matched.groupdict(default="").items():
            target = target.replace(f":{name}", value)
        if rule.status >= 400:
            return Reply(rule.status)
        if 300 <= rule.status < 400 or "://" in target:
            return Reply(rule.status if rule.status >= 300 else 302, target=target)
        inner = target.removeprefix(self.root).lstrip("/")
        found = self._file(inner)
        return found if found.file else Reply(404)

    def _file(self, path: str) -> Reply:
        """What a path gets from the files alone."""
        if not path or path.endswith("/"):
            own = self._first(path + "index.html", path + "index.htm") if not path or self.style == SLASH else ""
            if own:
                return Reply(200, own)
            bare = path.rstrip("/")
            if path and self.style == NO_SLASH and self._clean(bare):
                return Reply(301, target=self.root + bare)
            return Reply(404)
        if path in self.names:
            return Reply(200, path)
        if self.style == AS_WRITTEN:
            return Reply(404)
        if self.style == SLASH and self._first(f"{path}/index.html", f"{path}/index.htm"):
            return Reply(301, target=f"{self.root}{path}/")
        own = self._clean(path)
        return Reply(200, own) if own else Reply(404)

    def _clean(self, path: str) -> str:
        """The page's file that is at a path without its ending."""
        inner = (f"{path}/index.html", f"{path}/index.htm") if self.style == NO_SLASH else ()
        return self._first(*inner, f"{path}.html", f"{path}.htm")

    def _first(self, *names: str) -> str:
        return next((name for name in names if name in self.names), "")

    def sent(self, path: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The values of `X-Robots-Tag` and of `Link` that `_headers` adds for a path."""
        found = [pair for rule in self.headers if rule.source.fullmatch(self.root + path) for pair in rule.headers]
        robots, links = (tuple(v for n, v in found if n == name) for name in ("x-robots-tag", "link"))
        return robots, links

    def assumed(self, told: bool) -> list[str]:
        """What is assumed of the host, for the reader; nothing if no page's place depends on it."""
        inner = any(_INDEX.search(name) and "/" in name for name in self.names)
        notes = [] if told or not inner else [f"assumed of the server: {STYLES[self.style]} (--host-style)"]
        files = [f for f, used in ((RULES_FILE, self.rules), (HEADERS_FILE, self.headers)) if used]
        return notes + ([f"taken from {' and '.join(files)} in the folder: redirects and headers"] if files else [])
