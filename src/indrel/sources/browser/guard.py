"""Stands between an audit and its browser, as a process of its own: whatever ends either, nothing is left behind.

Run as a script (`python -I -S guard.py LIFE READ WRITE FOLDER UID GID APART BROWSER ARGUMENTS...`): starts the browser in a
session of its own, as the user given, with the descriptors READ and WRITE as its DevTools pipe (3 and 4); with APART=1 in a
network namespace that has no interface. When the descriptor LIFE is closed at the other end - the audit has ended, or was
killed - or the browser ends, all processes of the browser are ended and FOLDER, which holds its profile and home, is
removed. Standard library only.
"""

import contextlib
import ctypes
import os
import select
import shutil
import signal
import sys
import time

PR_SET_CHILD_SUBREAPER = 36
CLONE_NEWUSER, CLONE_NEWNET = 0x10000000, 0x40000000
PATIENCE = 2.0
"""Seconds in which a browser that is ended may end by itself, and in which its processes have to be gone."""


def main(life: int, read: int, write: int, folder: str, uid: int, gid: int, apart: bool, command: list[str]) -> int:
    """Guard one browser; the exit status of its main process."""
    with contextlib.suppress(OSError, AttributeError):  # Linux only: orphans of the browser come here to be reaped
        ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
    child = os.fork()
    if child == 0:
        _become(read, write, folder, uid, gid, apart, command)
    os.close(read)
    os.close(write)
    status = _wait(life, child)
    _end(child)
    for _ in range(20):  # a process that is just ending may still write
        shutil.rmtree(folder, ignore_errors=True)
        if not os.path.exists(folder):
            break
        time.sleep(0.05)
    return status


def _become(read: int, write: int, folder: str, uid: int, gid: int, apart: bool, command: list[str]) -> None:
    try:
        os.setsid()
        low = os.dup(read), os.dup(write)  # neither may be 3 or 4 while those are taken
        spare = [os.dup(n) for n in low]
        os.dup2(spare[0], 3)
        os.dup2(spare[1], 4)
        if apart:
            _without_network()
        if os.getuid() == 0 and uid:
            os.setgroups([])
            os.setgid(gid)
            os.setuid(uid)
        os.chdir(folder)
        os.closerange(5, 256)
        os.execv(command[0], command)
    except OSError as error:
        os.write(2, f"{command[0]} cannot be started: {error.strerror}\n".encode())
    finally:
        os._exit(127)


def _without_network() -> None:
    """Leave for a network namespace that has no interface, where the kernel allows it: nothing can be sent from there."""
    with contextlib.suppress(OSError, AttributeError):
        unshare, uid, gid = ctypes.CDLL(None).unshare, os.getuid(), os.getgid()
        if unshare(CLONE_NEWNET) != 0 and unshare(CLONE_NEWUSER | CLONE_NEWNET) == 0:
            for name, text in (("setgroups", "deny"), ("uid_map", f"{uid} {uid} 1"), ("gid_map", f"{gid} {gid} 1")):
                with open(f"/proc/self/{name}", "w") as file:
                    file.write(text)


def _wait(life: int, child: int) -> int:
    """Until the audit or the browser has ended; the status of the latter, -1 where it was still there."""
    poll = select.poll()
    poll.register(life, select.POLLHUP | select.POLLIN)
    while True:
        ended, status = os.waitpid(-1, os.WNOHANG)
        if ended == child:
            return os.waitstatus_to_exitcode(status)
        if not ended and poll.poll(100):
            return -1


def _end(child: int) -> None:
    until = time.monotonic() + PATIENCE
    for wish in (signal.SIGTERM, signal.SIGKILL):
        with contextlib.suppress(OSError):
            os.killpg(child, wish)
        limit = min(until, time.monotonic() + PATIENCE / 4)
        while time.monotonic() < limit:
            try:
                if os.waitpid(-1, os.WNOHANG)[0] == 0:
                    time.sleep(0.02)
            except ChildProcessError:
                return


if __name__ == "__main__":
    signal.signal(signal.SIGTERM, signal.SIG_IGN)  # it ends with the audit, and no sooner
    numbers = [int(n) for n in sys.argv[1:4]]
    user, group = int(sys.argv[5]), int(sys.argv[6])
    sys.exit(main(numbers[0], numbers[1], numbers[2], sys.argv[4], user, group, sys.argv[7] == "1", sys.argv[8:]))
