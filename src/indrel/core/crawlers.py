"""The crawlers known: a table read from `crawlers.toml`, and any other token besides."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from indrel.base.errors import UsageError
from indrel.core.robots.file import product_token

STAR = "*"
DEFAULT = ("googlebot", "bingbot", STAR)
OWN_TOKEN = "indrel"


@dataclass(frozen=True, slots=True)
class Crawler:
    """One crawler.

    `token` is in lower case, `name` as its owner writes it. `family` is the token whose rules and
    tags hold where none name this one; `fallback` one whose rules alone do. Either may be empty.
    `hosts` are the domains that its owner says it asks from.
    """

    token: str
    name: str
    family: str = ""
    fallback: str = ""
    purpose: str = "other"
    star: bool = True
    departs: str = ""
    hosts: tuple[str, ...] = ()

    @property
    def robots_tokens(self) -> tuple[str, ...]:
        """The product tokens whose groups hold for it, the first found winning."""
        tokens = [product_token(t) for t in (self.token, self.family, self.fallback) if t]
        return tuple(dict.fromkeys([*tokens, STAR] if self.star else tokens))

    @property
    def scopes(self) -> tuple[str, ...]:
        """The scopes of tags and headers that hold for it; empty is for all."""
        return tuple(dict.fromkeys(s for s in ("", self.token, self.family) if s != STAR))


@cache
def table() -> dict[str, Crawler]:
    """Every known crawler by token."""
    rows = tomllib.loads(files("indrel.core").joinpath("crawlers.toml").read_text("utf-8"))["crawler"]
    found = {}
    for row in rows:
        token = row["token"].lower()
        found[token] = Crawler(
            token=token,
            name=row["token"],
            family=row.get("family", "").lower(),
            fallback=row.get("fallback", "").lower(),
            purpose=row["purpose"],
            star=row.get("star", True),
            departs=row.get("departs", ""),
            hosts=tuple(row.get("hosts", ())),
        )
    return found


def crawler(token: str) -> Crawler:
    """The crawler of a token; an unknown one has no family."""
    token = token.strip().lower()
    return table().get(token) or Crawler(token, token)


def is_known(name: str) -> bool:
    return name in table()


def resolve(names: Iterable[str]) -> tuple[Crawler, ...]:
    """The crawlers that names mean: a token, a purpose (`search`, `ai` for all AI purposes) or `*`. Raises UsageError for an
    empty name."""
    found: dict[str, Crawler] = {}
    for name in names:
        word = name.strip().lower()
        if not word:
            raise UsageError("a crawler has no name: give its token, a purpose (indrel crawlers shows them) or *")
        wanted = [c for c in table().values() if c.purpose == word or (word == "ai" and c.purpose.startswith("ai-"))]
        for one in wanted or [crawler(word)]:
            found[one.token] = one
    return tuple(found.values())
