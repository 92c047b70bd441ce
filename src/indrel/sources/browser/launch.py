"""Finds a Chromium, starts it without any network of its own, and ends it: the only place that knows its flags."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import stat
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any, Self

from indrel.base.errors import UsageError
from indrel.sources.browser import guard
from indrel.sources.browser.memory import MemoryWatch
from indrel.sources.browser.pipe import BrowserLost, CallRefused, Event, Pipe

NAMES = (
    "chromium-headless-shell", "chrome-headless-shell", "chromium", "chromium-browser", "google-chrome-stable", "google-chrome",
)  # fmt: skip
"""What a Chromium is called on the search path, the lightest first."""

VARIABLE = "INDREL_BROWSER"
ADVICE = "apt-get install chromium-headless-shell (or name one: --browser FILE)"
MEMORY = 1_500_000_000
"""Bytes that its processes may hold."""

PREFIX = "indrel-browser-"
UNLOCKED = 60.0
"""Seconds in which a folder without a lock may be one that is just being made."""

STARTING = 20.0
"""Seconds in which a browser has to have answered."""

_FLAGS = (
    "--headless", "--remote-debugging-pipe", "--host-resolver-rules=MAP * ~NOTFOUND", "--no-first-run",
    "--no-default-browser-check", "--no-pings", "--disable-gpu", "--disable-background-networking", "--disable-component-update",
    "--disable-sync", "--disable-extensions", "--disable-default-apps", "--disable-breakpad", "--disable-dev-shm-usage",
    "--disable-domain-reliability", "--disable-client-side-phishing-detection", "--disable-hang-monitor",
    "--disable-popup-blocking", "--block-new-web-contents", "--disable-print-preview", "--mute-audio", "--hide-scrollbars",
    "--force-color-profile=srgb", "--metrics-recording-only", "--password-store=basic", "--deny-permission-prompts",
    "--webrtc-ip-handling-policy=disable_non_proxied_udp", "--force-webrtc-ip-handling-policy=disable_non_proxied_udp",
    "--disable-renderer-backgrounding", "--disable-backgrounding-occluded-windows", "--disable-background-timer-throttling",
    "--disable-features=IsolateOrigins,site-per-process,Translate,MediaRouter,OptimizationHints,BackForwardCache,Prerender2",
    "--disable-site-isolation-trials", "--js-flags=--max-old-space-size=256", "--window-size=412,915", "--lang=en-US",
)  # fmt: skip
# A page's frames stay in its own process, so that its clock holds for them too: there is no other site's secret in a
# browser that is wiped between pages.

_NO_SANDBOX = ("sandbox", "namespace", "clone")


def find(named: str | None = None) -> str:
    """The browser to use: the one named, that of `INDREL_BROWSER`, or one on the search path. Raises UsageError for none."""
    wanted = named or os.environ.get(VARIABLE)
    if wanted:
        found = shutil.which(wanted)
        if found is None:
            source = "--browser" if named else VARIABLE
            raise UsageError(
                f"{source} {wanted}: no program there that can be run; --render needs a Chromium: {ADVICE}"
            )
        return found
    for name in NAMES:
        if found := shutil.which(name):
            return found
    raise UsageError(f"--render needs a Chromium: {ADVICE}")


def try_out(named: str | None, sandbox: bool) -> None:
    """Start the browser that would be used, and end it. Raises UsageError with what to do where there is none, or it does not."""

    async def once() -> None:
        async with Browser(find(named), lambda *_: None, sandbox):
            pass

    asyncio.run(once())


def _nobody() -> tuple[int, int]:
    """Whom the browser runs as: root's sandbox would be none, so an account without rights takes its place."""
    if sys.platform == "win32" or os.getuid() != 0:
        return 0, 0
    import pwd

    with contextlib.suppress(KeyError):
        account = pwd.getpwnam("nobody")
        return account.pw_uid, account.pw_gid
    return 65_534, 65_534


def _locked(folder: Path) -> int:
    """The descriptor of a locked file in a folder; raises OSError where another process holds it."""
    descriptor = os.open(folder / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    if sys.platform != "win32":
        import fcntl

        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(descriptor)
            raise
    return descriptor


def _remove_left(owners: set[int]) -> None:
    """Remove the folders of browsers whose audit and guard were both killed: nobody holds their lock any more."""
    for folder in Path(tempfile.gettempdir()).glob(f"{PREFIX}*"):
        with contextlib.suppress(OSError):
            status = folder.lstat()
            fresh = not (folder / "lock").exists() and time.time() - status.st_mtime < UNLOCKED
            if stat.S_ISDIR(status.st_mode) and status.st_uid in owners and not fresh:
                os.close(_locked(folder))
                shutil.rmtree(folder, ignore_errors=True)


class Browser:
    """A running browser. Use as an asynchronous context manager; `on_event` receives all its events."""

    _apart = True
    """Whether it starts in a network namespace of its own; where it does not start there, in the machine's."""

    def __init__(self, program: str, on_event: Event, sandbox: bool = True, memory: int = MEMORY) -> None:
        self.program = program
        self.version = ""
        self.memory = memory
        self._on_event = on_event
        self._sandbox = sandbox

    async def __aenter__(self) -> Self:
        await self.start()
        return self

    async def __aexit__(self, *_: object) -> None:
        await self.end()

    @property
    def too_heavy(self) -> int:
        """How often one of its processes was ended because all together held more than `memory` bytes."""
        return self._watch.ended

    async def start(self) -> None:
        """Start it. Raises UsageError where it does not start, with what it said."""
        try:
            await self._start()
        except UsageError:
            if not self._apart or self.version:
                raise
            self._apart = False  # its sandbox may not be possible in there
            await self._start()

    async def _start(self) -> None:
        uid, gid = _nobody()
        _remove_left({os.getuid() if sys.platform != "win32" else 0, uid})
        self._folder = tempfile.mkdtemp(prefix=PREFIX)
        os.chmod(self._folder, 0o700)
        lock = _locked(Path(self._folder))
        if uid:
            os.chown(self._folder, uid, gid)
        said = tempfile.TemporaryFile()  # noqa: SIM115 (closed below)
        theirs_life, self._life = os.pipe()
        theirs_read, writing = os.pipe()
        reading, theirs_write = os.pipe()
        flags = [*_FLAGS, f"--user-data-dir={self._folder}/profile", *([] if self._sandbox else ["--no-sandbox"])]
        numbers = (theirs_life, theirs_read, theirs_write)
        self._guard = subprocess.Popen(
            [
                sys.executable, "-I", "-S", guard.__file__, *map(str, numbers), self._folder, str(uid), str(gid),
                str(int(self._apart)), self.program, *flags,
            ],
            pass_fds=(*numbers, lock), start_new_session=True, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=said,
            env={
                "HOME": self._folder, "TMPDIR": self._folder, "PATH": os.environ.get("PATH", os.defpath),
                "LANG": "en_US.UTF-8", "LANGUAGE": "en",
            },
        )  # fmt: skip
        for number in (*numbers, lock):  # the guard holds the lock for as long as it lives
            os.close(number)
        self._watch = MemoryWatch(self._guard.pid, self.memory)
        self._watching = asyncio.ensure_future(self._watch.watch())
        self.pipe = Pipe(reading, writing, self._on_event)
        await self.pipe.open()
        try:
            answer = await self.pipe.call("Browser.getVersion", None, STARTING)
            self.version = str(answer.get("product", ""))
            await self.pipe.call("Fetch.enable", patterns=[{"urlPattern": "*"}])
            await self.pipe.call("Browser.setDownloadBehavior", behavior="deny")
        except (BrowserLost, CallRefused) as error:
            await self.end()
            said.seek(0)
            words = said.read().decode("utf-8", "replace")
            raise UsageError(self._why(words, error)) from error
        finally:
            said.close()

    def _why(self, words: str, error: Exception) -> str:
        if self.version:
            return f"{self.program} is too old for --render ({self.version}): {ADVICE}"
        if self._sandbox and any(word in words.lower() for word in _NO_SANDBOX):
            return (
                f"{self.program} cannot start its sandbox here (no user namespaces?): allow them, or say "
                "--render-without-sandbox in a container that is thrown away"
            )
        lines = [line for line in words.splitlines() if line.strip()]
        told = lines[-1][:200] if lines else str(error) or "it ended at once"
        return f"{self.program} does not start: {told}; --render needs a Chromium: {ADVICE}"

    async def end(self) -> None:
        """End it with all its processes, and remove its folder."""
        self._watching.cancel()
        await self.pipe.close()
        with contextlib.suppress(OSError):
            os.close(self._life)
        loop = asyncio.get_running_loop()
        try:
            await loop.run_in_executor(None, self._guard.wait, 10)
        except subprocess.TimeoutExpired:
            self._guard.kill()
        shutil.rmtree(self._folder, ignore_errors=True)

    async def call(self, method: str, session: str | None = None, /, **params: Any) -> Any:
        return await self.pipe.call(method, session, **params)
