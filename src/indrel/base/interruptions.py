"""Interruptions by a signal, noted as they arrive: a library in C may turn the exception into an error of its own."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager


@contextmanager
def noted() -> Iterator[Callable[[], bool]]:
    """Gives whether an interruption has arrived within it. The exception is raised as ever.

    Only in the main thread, and only where the usual handler of an interrupt is in place.
    """
    arrived = False

    def note(number: int, frame: object) -> None:
        nonlocal arrived
        arrived = True
        raise KeyboardInterrupt

    usual = []
    if threading.current_thread() is threading.main_thread():
        both = (signal.SIGINT, signal.SIGTERM)
        usual = [one for one in both if signal.getsignal(one) is signal.default_int_handler]
    for one in usual:
        signal.signal(one, note)
    try:
        yield lambda: arrived
    finally:
        for one in usual:
            signal.signal(one, signal.default_int_handler)
