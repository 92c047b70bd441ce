"""Pages are parsed in worker processes, a batch at a time, under a time and memory guard.

A page that kills or stalls its worker is a fact ("could not be parsed"), not the end of the audit:
the worker is replaced and the rest of its batch is parsed page by page.
"""

from __future__ import annotations

import contextlib
import multiprocessing as mp
import os
import pickle
import queue
import signal
import sys
import threading
import time
from array import array
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, NamedTuple

from indrel.core import crawlers
from indrel.core.address import Joiner
from indrel.core.page.facts import Directive, PageFacts, header_canonicals, header_directives
from indrel.core.page.html import read_page

PAGE_SECONDS = 15.0
"""Seconds of processor time that one page may take."""

STANDING = 20
"""Times as many seconds may pass while a reader gets no processor time, or waits for nothing."""

OUT_OF_MEMORY = 12
"""Exit status of a reader that got no more memory."""

MEMORY = 4 << 30
"""Address space of one worker, in bytes, beyond what it begins with: a caller's libraries may have reserved any amount."""

ORPHANED = 5.0
"""Seconds after which a worker that has nothing to do looks whether anyone is there to give it work."""

MAX_PAGE = 10 << 20
"""Bytes of one page that are read."""


class PageTask(NamedTuple):
    """One page to parse: its bytes, or the file they are in, and the headers that bear on it."""

    page: int
    url: str
    data: bytes | str
    charset: str | None = None
    robots_headers: tuple[str, ...] = ()
    link_headers: tuple[str, ...] = ()
    user_parts: tuple[str, ...] = ()
    xhtml: bool = False


@dataclass
class Links:
    """A batch's links as columns: page number, position of the target in `urls`, flags, line (0: none), text of the anchor."""

    source: array[int] = field(default_factory=lambda: array("i"))
    target: array[int] = field(default_factory=lambda: array("i"))
    flags: array[int] = field(default_factory=lambda: array("B"))
    line: array[int] = field(default_factory=lambda: array("i"))
    text: list[str] = field(default_factory=list)


@dataclass
class Parsed:
    """Rows of a batch, addresses as positions in `urls`.

    `links` are columns; the other rows begin with their page's number and are laid out as the snapshot's tables.
    Nothing here needs the array libraries: a worker does not load them.
    """

    urls: list[str] = field(default_factory=list)
    pages: list[tuple[Any, ...]] = field(default_factory=list)
    directives: list[tuple[Any, ...]] = field(default_factory=list)
    canonicals: list[tuple[Any, ...]] = field(default_factory=list)
    resources: list[tuple[Any, ...]] = field(default_factory=list)
    alternates: list[tuple[Any, ...]] = field(default_factory=list)
    slips: list[tuple[Any, ...]] = field(default_factory=list)
    links: Links = field(default_factory=lambda: Links())


def directive_row(page: int, one: Directive) -> tuple[Any, ...]:
    """A directive as a row of the snapshot's table."""
    tokens = one.tokens
    return (
        page, int(one.origin), one.scope, tokens.noindex, tokens.nofollow, list(tokens.known),
        [text for text, _ in tokens.faults], [fault for _, fault in tokens.faults],
        tokens.expires.isoformat() if tokens.expires else None, one.void, one.in_body, one.line, one.text,
    )  # fmt: skip


class _Batch:
    """Turns page facts into rows."""

    def __init__(self) -> None:
        self.out = Parsed()
        self._positions: dict[str, int] = {}

    def at(self, url: str) -> int:
        """The position of an address in `urls`."""
        found = self._positions.get(url)
        if found is None:
            found = self._positions[url] = len(self.out.urls)
            self.out.urls.append(url)
        return found

    def maybe(self, url: str | None) -> int | None:
        """The same, of an address that may be none."""
        return None if url is None else self.at(url)

    def add(self, task: PageTask, facts: PageFacts) -> None:
        page, out = task.page, self.out
        out.pages.append(
            (
                page, facts.title, facts.base, facts.charset, facts.head_end, facts.head_end_line,
                self.maybe(facts.refresh_to), facts.refresh_line, facts.refresh_text, facts.text_hash, facts.text_length,
                facts.excerpt, facts.problem, facts.heading, facts.own_words, facts.own_links, facts.sketch,
                int(facts.marks), facts.types, facts.modified, facts.scripts, facts.bag,
            )
        )  # fmt: skip
        for one in [*facts.directives, *header_directives(list(task.robots_headers))]:
            out.directives.append(directive_row(page, one))
        for link in [*facts.canonicals, *header_canonicals(list(task.link_headers), task.url)]:
            row = (
                page,
                int(link.origin),
                link.href,
                self.maybe(link.url),
                link.fault,
                link.in_body,
                link.line,
                link.text,
            )
            out.canonicals.append(row)
        for rows, references in ((out.resources, facts.resources), (out.alternates, facts.alternates)):
            rows.extend((page, self.maybe(r.url), r.kind, r.line, r.text) for r in references)
        out.slips.extend((page, *slip) for slip in facts.slips)
        links, found = out.links, facts.links
        links.source.extend([page] * len(found))
        links.target.extend([self.at(one.url) for one in found])
        links.flags.extend([one.flags for one in found])
        links.line.extend([one.line or 0 for one in found])
        links.text += [one.text for one in found]


def parse_batch(tasks: Sequence[PageTask], joiner: Joiner) -> Parsed:
    """Parse pages one after the other."""
    batch = _Batch()
    for task in tasks:
        batch.add(task, _read(task, joiner))
    return batch.out


def _read(task: PageTask, joiner: Joiner) -> PageFacts:
    data = task.data
    if isinstance(data, str):
        try:
            with Path(data).open("rb") as file:
                data = file.read(MAX_PAGE)
        except OSError as error:
            return PageFacts(problem=f"could not be read: {error.strerror}")
    try:
        return read_page(data, task.url, task.charset, joiner, crawlers.is_known, task.user_parts, task.xhtml)
    except Exception as error:  # a fault of the reader is this page's alone, and is reported
        return PageFacts(problem=f"could not be parsed: {type(error).__name__} in the reader")


def _reserved() -> int:
    """The address space of this process, in bytes."""
    return int(Path("/proc/self/statm").read_text().split()[0]) * os.sysconf("SC_PAGE_SIZE")


def _serve(connection: Connection, inherited: Sequence[Connection] = ()) -> None:
    """A worker's life: read batches, answer, until the other side closes. Of that other side, a fork inherits copies: while
    one is open, a parent's death is not seen, and an answer would be waited with for ever."""
    for copy in inherited:
        copy.close()
    for wish in (
        signal.SIGINT,
        signal.SIGTERM,
    ):  # a whole group is reported to end: the parent takes in what is being read
        signal.signal(wish, signal.SIG_IGN)
    if sys.platform == "linux":
        import resource

        with contextlib.suppress(ValueError, OSError):
            most = _reserved() + MEMORY
            resource.setrlimit(resource.RLIMIT_AS, (most, most))
    joiner = Joiner()
    parent = os.getppid()
    while True:
        try:
            while not connection.poll(ORPHANED):
                if os.getppid() != parent:  # killed: nobody is left to close the other side
                    os._exit(0)
            tasks = pickle.loads(connection.recv_bytes())
        except (EOFError, OSError):
            os._exit(0)
        try:
            answer = pickle.dumps(parse_batch(tasks, joiner), protocol=5)
        except MemoryError:
            os._exit(OUT_OF_MEMORY)
        try:
            connection.send_bytes(answer)
        except OSError:
            os._exit(0)


@contextlib.contextmanager
def _without_main() -> Iterator[None]:
    """A process that starts afresh does not run the caller's program again: a worker needs nothing of it."""
    main = vars(sys.modules["__main__"])
    held: dict[str, Any] = {name: main[name] for name in ("__file__", "__spec__") if name in main}
    main.pop("__file__", None)
    main["__spec__"] = None
    try:
        yield
    finally:
        main.update(held)


class _Worker:
    def __init__(self, first: bool, others: Sequence[_Worker] = ()) -> None:
        # Forking is quick and safe only before this process has threads; later workers start afresh.
        forks = first and sys.platform == "linux" and threading.active_count() == 1
        context: Any = mp.get_context("fork" if forks else "spawn")
        self.connection, theirs = context.Pipe()
        inherited = [self.connection, *(other.connection for other in others)] if forks else []
        self.process = context.Process(target=_serve, args=(theirs, inherited), daemon=True)
        with _without_main():
            self.process.start()
        theirs.close()

    def ask(self, tasks: Sequence[PageTask], seconds: float) -> Parsed | str:
        """The rows of a batch, or what happened instead. `seconds` are of the worker's processor time: a busy machine is no
        slow page."""
        began, until = self._spent(), time.monotonic() + seconds * STANDING
        try:
            self.connection.send_bytes(pickle.dumps(list(tasks), protocol=5))
            while not self.connection.poll(0.5 if seconds > 1 else seconds / 4):
                if self._spent() - began > seconds or time.monotonic() > until:
                    return f"it took more than {seconds:g} s"
            answer: Parsed = pickle.loads(self.connection.recv_bytes())
            return answer
        except (EOFError, OSError):
            self.process.join(1)
            return _how_it_ended(self.process.exitcode)

    def _spent(self) -> float:
        """Seconds of processor time that the process has taken; the wall's where the system does not tell."""
        pid = self.process.pid
        if sys.platform == "linux" and pid:
            with contextlib.suppress(OSError):
                return time.clock_gettime((~pid << 3) | 2)  # as clock_getcpuclockid has it
        return time.monotonic()

    def end(self) -> None:
        self.connection.close()
        self.process.kill()
        self.process.join()


def _how_it_ended(code: int | None) -> str:
    """What became of a worker, by its exit status."""
    if code == OUT_OF_MEMORY:
        return f"it took more than {MEMORY >> 30} GiB of memory"
    if code is not None and code < 0:
        with contextlib.suppress(ValueError):
            return f"the reading process was ended by {signal.Signals(-code).name}"
    return f"the reading process ended ({code})"


class ParserPool:
    """Worker processes; `parse` may be called from several threads, one batch a worker at a time."""

    def __init__(self, size: int | None = None, page_seconds: float = PAGE_SECONDS) -> None:
        self.size = size or max(1, min(8, os.cpu_count() or 1))
        self.page_seconds = page_seconds
        self._free: queue.SimpleQueue[_Worker] = queue.SimpleQueue()
        self._all: list[_Worker] = []
        for _ in range(self.size):
            self._all.append(_Worker(True, self._all))
            self._free.put(self._all[-1])

    def parse(self, tasks: Sequence[PageTask]) -> list[Parsed]:
        """Parse a batch; waits for a free worker."""
        worker = self._free.get()
        try:
            answer = worker.ask(tasks, self.page_seconds if len(tasks) == 1 else self.page_seconds * 2)
            if isinstance(answer, Parsed):
                return [answer]
            worker = self._replace(worker)
            if len(tasks) == 1:
                return [_unparsed(tasks[0], answer)]
            answers = []
            for task in tasks:
                answer = worker.ask([task], self.page_seconds)
                if isinstance(answer, str):
                    worker = self._replace(worker)
                    answer = _unparsed(task, answer)
                answers.append(answer)
            return answers
        finally:
            self._free.put(worker)

    def _replace(self, worker: _Worker) -> _Worker:
        worker.end()
        self._all.remove(worker)
        fresh = _Worker(first=False)
        self._all.append(fresh)
        return fresh

    def close(self) -> None:
        for worker in self._all:
            worker.end()


def parse_in_order(pool: ParserPool, batches: Iterable[list[PageTask]]) -> Iterator[Parsed]:
    """Parse batches in all workers, few ahead; give the rows in order, so that the same input gives the same snapshot."""
    with ThreadPoolExecutor(pool.size) as executor:
        running: deque[Future[list[Parsed]]] = deque()
        for batch in batches:
            running.append(executor.submit(pool.parse, batch))
            if len(running) >= pool.size * 3:
                yield from running.popleft().result()
        while running:
            yield from running.popleft().result()


def _unparsed(task: PageTask, why: str) -> Parsed:
    """The facts of a page that its worker did not survive: what its headers say, and why nothing else is known."""
    batch = _Batch()
    batch.add(task, PageFacts(problem=f"could not be parsed: {why}"))
    return batch.out
