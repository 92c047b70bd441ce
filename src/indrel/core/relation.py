"""How two URLs relate: computed from the two alone, simplest explanation first.

A canonical, a redirect, a duplicate or a sitemap entry has a subject and a target. The relation between them tells
whether many findings have one reason: all of them drop `www`, lack a slash or have `7.0` where the page has `8.0`.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

SCHEME, WWW, PORT, HOST_VARIANT = "scheme", "www", "port", "host-variant"
CASE, SLASH, FILE, PARAMETERS, PART = "letter-case", "slash", "file-form", "parameters", "part"
HOME, PARENT, FIRST_PAGE, SAME, UNRELATED = "home", "parent", "first-page", "same", "unrelated"
VARIANTS = (SCHEME, WWW, PORT, HOST_VARIANT)

OTHER_HOST = "other-host"


class Relation(NamedTuple):
    """`kind` is how the paths relate, or how the origins do if the paths are the same; `parts` are what differs.

    `host` is empty on one origin, a kind of variant (`scheme`, `www` ...), or the target's host if it is another one.
    Parts: `-x` is in the subject only, `+x` in the target only, `x > y` is replaced, `=x` is a parameter with another value.
    """

    kind: str
    parts: tuple[str, ...] = ()
    host: str = ""

    @property
    def is_plain(self) -> bool:
        """Whether the target follows from the subject by a rule, whatever page it is."""
        return self.kind != UNRELATED

    def __str__(self) -> str:
        return _label(self)


@lru_cache(maxsize=1024)
def _label(found: Relation) -> str:
    host = f"{OTHER_HOST} {found.host}" if found.host and found.host not in VARIANTS else found.host
    kind = "" if found.kind == SAME and host else found.kind
    return " ".join(word for word in (host, kind, *found.parts) if word)


_INDEX = re.compile(r"(^|/)((?:index|default)\.(?:html?|xhtml|php|aspx?|jsp|md))$", re.IGNORECASE)
_EXTENSION = re.compile(r"\.(?:html?|xhtml|shtml|php|aspx?|jsp|md)$", re.IGNORECASE)
_HASH = re.compile(r"^(?=[^/]*[0-9])(?=[^/]*[a-f])[0-9a-f]{6,64}$", re.IGNORECASE)
_NUMBER = re.compile(r"\d+")
_VERSION = re.compile(r"^v?\d+(\.\d+|\.x)+$|^v\d+$", re.IGNORECASE)
_SERIES = re.compile(r"^(page|paged|p|pg|pagina|seite|start|offset|from)$", re.IGNORECASE)
_VIEWS = frozenset(
    [
        "print",
        "printable",
        "amp",
        "embed",
        "edit",
        "raw",
        "history",
        "diff",
        "feed",
        "rss",
        "comments",
        "comment",
        "share",
        "pdf",
        "mobile",
        "source",
    ]
)
"""Last segments that name another view of the page above them, so that it is not only their parent."""


@lru_cache(maxsize=64)
def relation(subject: str, target: str) -> Relation:
    """How a target relates to a subject: two absolute URLs, as normalised."""
    if subject == target:
        return Relation(SAME)
    origin, path = _cut(subject)
    origin2, path2 = _cut(target)
    if origin == origin2:
        return _paths(path, path2)
    if path == path2:
        return _same_path(origin, origin2)
    host, _ = _hosts(origin, origin2)
    inner = _paths(path, path2)
    return inner._replace(host=host)


def _cut(url: str) -> tuple[str, str]:
    start = url.find("/", len("http://x"))
    return (url[:start], url[start:]) if start > 0 else (url, "/")


@lru_cache(maxsize=1024)
def _hosts(one: str, two: str) -> tuple[str, tuple[str, ...]]:
    """How two origins differ; the second's host if it is another one."""
    (scheme, _, place), (scheme2, _, place2) = one.partition("://"), two.partition("://")
    (name, _, port), (name2, _, port2) = place.partition(":"), place2.partition(":")
    differ = []
    if scheme != scheme2:
        differ.append((SCHEME, f"{scheme} > {scheme2}"))
    if name.removeprefix("www.") != name2.removeprefix("www."):
        return place2, ()
    if name != name2:
        differ.append((WWW, "-www" if name.startswith("www.") else "+www"))
    if port != port2 and (port or port2) and not differ:
        differ.append((PORT, f"{port or '-'} > {port2 or '-'}"))
    kind = differ[0][0] if len(differ) == 1 else HOST_VARIANT
    return kind, tuple(part for _, part in differ)


@lru_cache(maxsize=1024)
def _same_path(origin: str, origin2: str) -> Relation:
    host, parts = _hosts(origin, origin2)
    return Relation(host, parts) if host in VARIANTS else Relation(SAME, (), host)


def _paths(one: str, two: str) -> Relation:
    (path, _, query), (path2, _, query2) = one.partition("?"), two.partition("?")
    if path == path2:
        return _first_page_of(query, query2) or Relation(PARAMETERS, _differing(query, query2))
    found = _bare(path, path2)
    if query == query2:
        return found
    if not found.is_plain:
        return found
    return found._replace(parts=(*found.parts, *_differing(query, query2)))


def _differing(query: str, query2: str) -> tuple[str, ...]:
    """The names of parameters that differ."""
    pairs, pairs2 = ([p.partition("=") for p in re.split("[&;]", q) if p] for q in (query, query2))
    if sorted(pairs) == sorted(pairs2):
        return ("order",)
    left, left2 = ([p for p in mine if p not in other] for mine, other in ((pairs, pairs2), (pairs2, pairs)))
    names, names2 = {p[0] for p in left}, {p[0] for p in left2}
    changed = names & names2
    return (
        *(f"-{n}" for n in sorted(names - changed)),
        *(f"+{n}" for n in sorted(names2 - changed)),
        *(f"={n}" for n in sorted(changed)),
    )


def _first_page_of(query: str, query2: str) -> Relation | None:
    """Whether the second is page 1 of a series in one parameter."""
    pairs, pairs2 = ([p.partition("=") for p in re.split("[&;]", q) if p] for q in (query, query2))
    left = [p for p in pairs if p not in pairs2]
    more = [p for p in pairs2 if p not in pairs]
    if len(left) != 1 or not _SERIES.match(left[0][0]) or not left[0][2].isdigit() or int(left[0][2]) < 2:
        return None
    if not more or (len(more) == 1 and more[0][0] == left[0][0] and more[0][2] in ("0", "1")):
        return Relation(FIRST_PAGE, (left[0][0],))
    return None


def _bare(path: str, path2: str) -> Relation:
    """How two unequal paths relate."""
    if path.lower().rstrip("/") == path2.lower().rstrip("/") and path.rstrip("/") != path2.rstrip("/"):
        slash = path.endswith("/") - path2.endswith("/")
        return Relation(CASE, () if not slash else ("-/",) if slash > 0 else ("+/",))
    if path.rstrip("/") == path2.rstrip("/"):
        return Relation(SLASH, ("+/" if len(path2) > len(path) else "-/",))
    (stem, form), (stem2, form2) = _form(path), _form(path2)
    if stem == stem2:
        return Relation(FILE, (f"{form or '-'} > {form2 or '-'}",))
    if path2 == "/":
        return Relation(HOME)
    segments, segments2 = stem.split("/")[1:], stem2.split("/")[1:]
    series = _series(segments, segments2)
    if series:
        return Relation(FIRST_PAGE, (series,))
    return _part(segments, segments2)


def _form(path: str) -> tuple[str, str]:
    """A path without what says how it is served, and that: `/x/`, `/x/index.html` and `/x.html` are `/x`."""
    found = _INDEX.search(path)
    if found:
        return path[: found.start()].rstrip("/"), found[2]
    found = _EXTENSION.search(path)
    if found:
        return path[: found.start()], found[0]
    return (path.rstrip("/"), "/") if path.endswith("/") else (path, "")


def _series(one: list[str], two: list[str]) -> str:
    """The word of a numbered series whose page 1 the second is, or nothing."""
    if len(one) < 2 or not one[-1].isdigit() or int(one[-1]) < 2 or not _SERIES.match(one[-2]):
        return ""
    return one[-2] if two in (one[:-2], [*one[:-1], "1"]) else ""


def _part(one: list[str], two: list[str]) -> Relation:
    """A fixed part that one path has and the other has not, or has instead."""
    start = 0
    while start < min(len(one), len(two)) and one[start] == two[start]:
        start += 1
    end = 0
    while end < min(len(one), len(two)) - start and one[-1 - end] == two[-1 - end]:
        end += 1
    mine, theirs = one[start : len(one) - end], two[start : len(two) - end]
    if end:
        return Relation(PART, _replaced("/".join(mine), "/".join(theirs)))
    if not theirs and len(mine) == 1 and start:
        if mine[0].lower() in _VIEWS or _HASH.match(mine[0]):
            return Relation(PART, _replaced(mine[0], ""))
        return Relation(PARENT)
    if not mine and len(theirs) == 1:
        return Relation(PART, _replaced("", theirs[0]))
    if not theirs and start and mine[0].lower() in _VIEWS | {"revision", "rev", "oldid"}:
        return Relation(PART, _replaced("/".join(mine), ""))
    if len(mine) == len(theirs) == 1:
        return _affix(mine[0], theirs[0])
    return Relation(UNRELATED)


def _replaced(mine: str, theirs: str) -> tuple[str]:
    mine, theirs = shape(mine), shape(theirs)
    return (f"{mine} > {theirs}" if mine and theirs else f"-{mine}" if mine else f"+{theirs}",)


def _affix(mine: str, theirs: str) -> Relation:
    """Parts of a last segment, such as `-print` or `.en`."""
    tokens, tokens2 = (re.split(r"(?=[-._~])", text) for text in (mine, theirs))
    if len(tokens) == len(tokens2):
        return Relation(UNRELATED)
    longer, shorter = (tokens, tokens2) if len(tokens) > len(tokens2) else (tokens2, tokens)
    start = 0
    while start < len(shorter) and longer[start] == shorter[start]:
        start += 1
    end = len(shorter) - start
    if end and longer[-end:] != shorter[start:]:
        return Relation(UNRELATED)
    extra = "".join(longer[start : len(longer) - end])
    return Relation(PART, _replaced(extra, "") if longer is tokens else _replaced("", extra))


def shape(text: str) -> str:
    """A part as is the same on every page: numbers and hashes as `#`; versions stay, because they name what they are."""
    return "/".join(
        part if _VERSION.match(part) else "#" if _HASH.match(part) else _NUMBER.sub("#", part)
        for part in text.split("/")
    )


def target_shape(url: str) -> str:
    """Where a URL points, as many that one template prints have it in common: its origin, first folder and parameters."""
    origin, path = _cut(url)
    path, _, query = path.partition("?")
    folder = path.split("/")[1] if path.count("/") > 1 else ""
    names = sorted({p.partition("=")[0] for p in re.split("[&;]", query) if p})
    return f"{origin}/{shape(folder)}" + (f"?{'&'.join(names)}" if names else "")


_WORDS = {
    SCHEME: "the scheme differs ({0})", WWW: "one has www and the other has not", PORT: "the port differs ({0})",
    HOST_VARIANT: "scheme and host name differ ({0})", CASE: "only the letter case differs", SLASH: "only the trailing slash differs",
    FILE: "only the file ending differs ({0})", HOME: "the target is the home page", PARENT: "the target is the page one level up",
    FIRST_PAGE: "the target is page 1",
}  # fmt: skip

_HOST_PARTS = {"-www": "without www", "+www": "with www"}


@lru_cache(maxsize=1024)
def in_words(found: Relation, target: str = "") -> str:
    """The relation as a clause; empty if nothing can be said. `target` names the URL that differs, such as `the canonical`."""
    if found.kind == PART:
        return _part_in_words(found.parts[0], target or "the target")
    if found.kind == PARAMETERS:
        return _parameters_in_words(found.parts)
    if found.host and found.host not in VARIANTS:
        return f"the same path on {found.host}" if found.kind == SAME else ""
    return _WORDS.get(found.kind, "").format(
        ", ".join(_HOST_PARTS.get(p, p.replace(" > ", " → ")) for p in found.parts)
    )


def _part_in_words(part: str, target: str) -> str:
    mine, arrow, theirs = part.partition(" > ")
    if arrow:
        return f"{target} has `{theirs}` where the page has `{mine}`"
    return (
        f"{target} lacks the part `{part[1:]}`" if part[0] == "-" else f"{target} has the part `{part[1:]}` in addition"
    )


def _parameters_in_words(parts: tuple[str, ...]) -> str:
    if parts == ("order",):
        return "only the order of the parameters differs"
    names = sorted({part[1:] for part in parts})
    return f"they differ only in the parameter{'s' if len(names) > 1 else ''} {', '.join(f'`{n}`' for n in names)}"
