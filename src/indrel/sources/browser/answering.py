"""What a page in a browser asks for: judged by the robots.txt of its own host, answered by the audit, or not at all."""

from __future__ import annotations

import base64
import time
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol

from indrel.core.address import normalise
from indrel.gather.answers import Answer

MOST_REQUESTS = 100
"""Requests of one look that are answered; what polls without an end stops there."""

MOST_OCTETS = 10 << 20
"""Bytes of one answer that are handed in."""

MOST_KEPT = 32 << 20
"""Bytes of shared scripts and style sheets that are kept for the next pages."""

REFUSED, FAILED, UNKNOWN, WITHHELD, CAPPED, GIVEN = "refused", "failed", "unknown", "withheld", "capped", "given"
"""What becomes of a request. `unknown`: nothing answered, which says nothing of what crawlers get."""

KINDS = {
    "document": "frame", "stylesheet": "style", "xhr": "data", "fetch": "data", "eventsource": "data", "texttrack": "media",
    "prefetch": "preload", "cspviolationreport": "ping",
}  # fmt: skip
"""The protocol's words for what is asked for, where ours are others."""

STAND_INS = frozenset({"image", "media", "font"})
"""What the look of a page hangs on, but not what it says: it gets a stand-in."""

_SHARED = frozenset({"script", "style"})
_PIXEL = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")
_OURS = frozenset({"host", "connection", "content-length", "cookie", "user-agent", "accept-encoding"})
_NOT_HANDED_IN = frozenset(
    {"content-encoding", "content-length", "transfer-encoding", "connection", "strict-transport-security"}
)


class Wish(NamedTuple):
    """One request of a page."""

    url: str
    kind: str
    method: str
    headers: dict[str, str]
    data: bytes | None
    cookies: str = ""


class Answers(Protocol):
    """Where answers come from: a live site, a folder or an archive. `lacks` says of what does not answer why, in words."""

    lacks: str

    async def barred(self, url: str) -> int:
        """The audited crawlers that may not fetch an address, as a mask, by the robots.txt of its own host."""

    async def get(self, wish: Wish) -> Answer:
        """What is answered; status None where nothing is."""


class Asked(NamedTuple):
    """What became of one request: `result` is one of refused, failed, unknown, withheld, capped, given."""

    url: str
    kind: str
    result: str
    status: int | None
    mask: int
    how: str


class Reply(NamedTuple):
    """What the browser is reported: an answer, or (`answer` None) that there is none, for the protocol's reason."""

    answer: Answer | None
    reason: str = "Failed"


class Shelf:
    """Scripts and style sheets that pages share, as they were answered in this run."""

    def __init__(self) -> None:
        self._kept: dict[str, Answer] = {}
        self._octets = 0

    def get(self, url: str) -> Answer | None:
        return self._kept.get(url)

    def put(self, url: str, answer: Answer) -> None:
        if answer.status is not None and self._octets + len(answer.body) <= MOST_KEPT:
            self._kept[url] = answer
            self._octets += len(answer.body)


@dataclass
class Answering:
    """Judges and answers the requests of one look. `crawlers` are the ones that it is for, as a mask."""

    answers: Answers
    shelf: Shelf
    crawlers: int
    documents: dict[str, Answer]
    """Documents that were fetched already, by address: they are handed in."""

    how: str = "load"
    """What makes the page ask at present: load, scroll, click or visit."""

    asked: list[Asked] = field(default_factory=list)
    pictures: bool = False
    """Whether images and fonts are fetched too."""

    _count: int = 0
    _under: int = 0
    _since: float = 0.0
    _waited: float = 0.0

    @property
    def waited(self) -> float:
        """Seconds in which an answer was under way: what the pace of requests costs is not the page's."""
        return self._waited + (time.monotonic() - self._since if self._under else 0.0)

    async def reply(self, wish: Wish, main: bool) -> Reply:
        """The answer to one request; `main` says that it is the page itself."""
        if not self._under:
            self._since = time.monotonic()
        self._under += 1
        try:
            return await self._reply(wish, main)
        finally:
            self._under -= 1
            if not self._under:
                self._waited += time.monotonic() - self._since

    async def _reply(self, wish: Wish, main: bool) -> Reply:
        url = normalise(wish.url)
        if url is None or not url.startswith(("http://", "https://")):
            return Reply(None, "AccessDenied")
        if main and not wish.cookies and (handed := self.documents.get(url)) is not None:
            return Reply(handed)
        if wish.kind in STAND_INS and not self.pictures:
            return Reply(Answer(url, 200, headers={"content-type": ["image/gif"]}, body=_PIXEL))
        self._count += 1
        if self._count > MOST_REQUESTS:
            self._note(url, wish.kind, CAPPED, None, 0)
            return Reply(None, "BlockedByClient")
        mask = await self.answers.barred(url)
        if mask & self.crawlers == self.crawlers:
            self._note(url, wish.kind, REFUSED, None, mask)
            return Reply(None, "BlockedByClient")
        if wish.kind == "ping" or (self.how != "load" and wish.method not in ("GET", "HEAD", "OPTIONS")):
            self._note(url, wish.kind, WITHHELD, None, mask)
            return Reply(None, "BlockedByClient")
        answer = await self._get(wish, url)
        if answer.status is None:
            self._note(url, wish.kind, UNKNOWN, None, mask)
            return Reply(None)
        self._note(url, wish.kind, FAILED if answer.status >= 400 else GIVEN, answer.status, mask)
        return Reply(answer)

    async def _get(self, wish: Wish, url: str) -> Answer:
        shared = wish.kind in _SHARED and wish.method == "GET"
        if shared and (kept := self.shelf.get(url)) is not None:
            return kept
        headers = {name: value for name, value in wish.headers.items() if name.lower() not in _OURS and ":" not in name}
        if wish.cookies and wish.cookies.isprintable():
            headers["Cookie"] = wish.cookies
        answer = await self.answers.get(wish._replace(url=url, headers=headers))
        if shared:
            self.shelf.put(url, answer)
        return answer

    def _note(self, url: str, kind: str, result: str, status: int | None, mask: int) -> None:
        if len(self.asked) < 4 * MOST_REQUESTS:
            self.asked.append(Asked(url, kind, result, status, mask, self.how))


def fulfilment(request: str, reply: Reply) -> tuple[str, dict[str, Any]]:
    """A reply as the protocol's call: its name and parameters."""
    answer = reply.answer
    if answer is None:
        return "Fetch.failRequest", {"requestId": request, "errorReason": reply.reason}
    headers = [
        {"name": name, "value": value}
        for name, values in answer.headers.items()
        if name not in _NOT_HANDED_IN
        for value in values
    ]
    if answer.status == 204:
        return "Fetch.fulfillRequest", {"requestId": request, "responseCode": 204}
    return "Fetch.fulfillRequest", {
        "requestId": request, "responseCode": answer.status, "responseHeaders": headers,
        "body": base64.b64encode(answer.body).decode(),
    }  # fmt: skip
