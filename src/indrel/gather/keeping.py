"""What every source of answers does with one: a row of the snapshot, what its headers say, a page to parse."""

from __future__ import annotations

from typing import Any

from indrel.core import crawlers
from indrel.core.address import Joiner
from indrel.core.page.facts import header_canonicals, header_directives
from indrel.core.page.headers import XHTML, content_type, is_html, looks_like_html
from indrel.core.page.html import read_page
from indrel.gather.answers import Answer
from indrel.gather.parsing import PageTask, directive_row
from indrel.gather.recorder import Recorder

ERROR_PAGE = 256 << 10
"""Bytes of an error page that are looked through for a robots tag."""


class Keeper:
    """Keeps answers in a recorder. `user_parts` are the parts of pages that visitors write (CSS selectors)."""

    def __init__(self, recorder: Recorder, joiner: Joiner, user_parts: tuple[str, ...] = ()) -> None:
        self.recorder = recorder
        self.joiner = joiner
        self.user_parts = user_parts

    def keep(self, answer: Answer, parse: bool = True) -> tuple[tuple[Any, ...], PageTask | None]:
        """The row of an answer, and the page to parse, if it is one.

        An HTML answer should be kept together with what its page says, so that neither is there alone:
        where there is a page, its row is left to the caller. All others are kept here.
        """
        media, charset = content_type(answer.header("content-type"))
        row = self.recorder.answer_row(
            answer.url, answer.status, error=answer.error, media_type=media, target=answer.target,
            location=answer.header("location") if answer.redirects else None, octets=answer.octets, cut=answer.cut,
            last_modified=answer.header("last-modified"),
        )  # fmt: skip
        number = self.recorder.id(answer.url)
        robots = tuple(answer.headers.get("x-robots-tag", ()))
        links = tuple(answer.headers.get("link", ()))
        html = answer.status == 200 and (is_html(media) or (not media and looks_like_html(answer.body)))
        if html and parse and self.recorder.on_site(answer.url):
            return row, PageTask(
                number, answer.url, answer.body, charset, robots, links, self.user_parts, media == XHTML
            )
        self.recorder.writer.add("answer", [row])
        if robots or links:
            keep_headers(self.recorder, number, answer.url, robots, links)
        if parse and (answer.status or 0) >= 400 and is_html(media) and b"robots" in answer.body.lower():
            page = answer.body[:ERROR_PAGE]
            facts = read_page(page, answer.url, charset, self.joiner, crawlers.is_known, xhtml=media == XHTML)
            self.recorder.writer.add("directive", [directive_row(number, d) for d in facts.directives])
        return row, None


def keep_headers(recorder: Recorder, number: int, url: str, robots: tuple[str, ...], links: tuple[str, ...]) -> None:
    """Keep what the `X-Robots-Tag` and `Link` headers of an answer say that is no page."""
    recorder.writer.add("directive", [directive_row(number, d) for d in header_directives(list(robots))])
    rows = []
    for c in header_canonicals(list(links), url):
        target = recorder.id(c.url) if c.url else None
        rows.append((number, int(c.origin), c.href, target, c.fault, c.in_body, c.line, c.text))
    recorder.writer.add("canonical", rows)
