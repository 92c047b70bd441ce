"""The installed program, started once: each run is a fork of it, so that hundreds of runs import its libraries once.

A run has its own process, folder, environment, arguments and streams, and ends as the program does. What is
measured, killed or limited is started as users start it instead.
"""

from __future__ import annotations

import atexit
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from pathlib import Path
from typing import Any

LOADED = (
    "indrel.cli.app", "indrel.pipeline", "indrel.checks.run", "indrel.checks.topics", "indrel.sources.live", "indrel.sources.folder",
    "indrel.demo.site", "indrel.reports.terminal", "indrel.decide.build", "numpy", "pyarrow", "indrel.sources.client", "rich.table",
)  # fmt: skip
"""What nearly all runs import."""


def serve(address: str) -> None:
    """Fork a run for each connection, for as long as whoever began this is there."""
    parent = os.getppid()
    for name in LOADED:
        import_module(name)
    main = import_module("indrel.cli.app").main
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(address)
        listening.listen(64)
        listening.settimeout(5)
        signal.signal(signal.SIGCHLD, signal.SIG_IGN)
        sys.stdout.write("ready\n")
        sys.stdout.flush()
        while os.getppid() == parent:
            try:
                connection, _ = listening.accept()
            except TimeoutError:
                continue
            connection.setblocking(True)
            if os.fork() == 0:
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                listening.close()
                _watch(connection, main)
            connection.close()


def _watch(connection: socket.socket, main: Callable[[], None]) -> None:
    """Run once and send the exit code; the caller's hanging up ends the run."""
    with connection.makefile("r") as lines:
        wish = json.loads(lines.readline())
    run = os.fork()
    if run == 0:
        connection.close()
        _run(wish, main)
    connection.sendall(f"{run}\n".encode())
    _, status = os.waitpid(run, 0)
    connection.sendall(f"{os.waitstatus_to_exitcode(status)}\n".encode())
    os._exit(0)


def _run(wish: Mapping[str, Any], main: Callable[[], None]) -> None:
    os.chdir(str(wish["cwd"]))
    os.environ.clear()
    os.environ.update(wish["env"])
    for number, name in enumerate(("in", "out", "err")):
        os.dup2(os.open(str(wish[name]), os.O_WRONLY if number else os.O_RDONLY), number)
    sys.argv = [str(word) for word in wish["argv"]]
    code = 1
    try:
        main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    except BaseException:
        sys.excepthook(*sys.exc_info())
    finally:
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


class Forked:
    """Runs the program as `subprocess.run` would."""

    def __init__(self, program: Path) -> None:
        self.program = program
        self._folder = tempfile.TemporaryDirectory(prefix="indrel-forked-")
        self._address = str(Path(self._folder.name) / "s")
        self._process = subprocess.Popen(
            [sys.executable, __file__, self._address], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, text=True
        )
        assert self._process.stdout and self._process.stdout.readline() == "ready\n"

    def run(
        self,
        arguments: Sequence[str],
        cwd: Path,
        env: Mapping[str, str],
        input: str | None = None,
        timeout: float = 120,
    ) -> subprocess.CompletedProcess[str]:
        """One run, its output as text. Raises TimeoutExpired, and ends the run, after `timeout` seconds."""
        with tempfile.TemporaryDirectory(dir=self._folder.name) as name, socket.socket(socket.AF_UNIX) as asked:
            folder = Path(name)
            (folder / "in").write_text(input or "", "utf-8")
            for stream in ("out", "err"):
                (folder / stream).touch()
            command = [str(self.program), *arguments]
            wish = {
                "argv": command,
                "cwd": str(cwd),
                "env": dict(env),
                **{n: str(folder / n) for n in ("in", "out", "err")},
            }
            asked.connect(self._address)
            asked.sendall(json.dumps(wish).encode() + b"\n")
            with asked.makefile("r") as lines:
                number = int(lines.readline())
                asked.settimeout(timeout)
                try:
                    code = int(lines.readline())
                except TimeoutError:
                    os.kill(number, signal.SIGKILL)
                    raise subprocess.TimeoutExpired(command, timeout) from None
            told = ((folder / n).read_bytes().decode("utf-8").replace("\r\n", "\n") for n in ("out", "err"))
            return subprocess.CompletedProcess(command, code, *told)

    def close(self) -> None:
        self._process.kill()
        self._process.wait()
        if self._process.stdout:
            self._process.stdout.close()
        self._folder.cleanup()


if __name__ == "__main__":
    serve(sys.argv[1])
