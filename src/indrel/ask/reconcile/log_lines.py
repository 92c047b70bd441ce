"""The lines of access logs: Common and Combined Log Format, and JSON lines as servers and proxies write them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

LOG_LINE = re.compile(
    rb'^(?:[\w.-]++:\d++ )?(\S++) \S++ \S++ \[([^\]\n]*+)\] "[A-Z]++ ((?:[^\s"\\]|\\.)++)(?:[^"\\\n]|\\.)*+" (\d{3}) \S++'
    rb'(?: "(?:[^"\\\n]|\\.)*+" "((?:[^"\\\n]|\\.)*+)")?',
    re.MULTILINE,
)
"""One line of Common or Combined Log Format: host, time, address, status, user agent."""


_NAMES = {
    "host": ("remote_addr", "remote_ip", "client_ip", "clienthost", "remote_host", "clientaddr", "client", "ip", "host"),
    "address": ("request_uri", "requestpath", "uri", "url", "path", "request_path", "request",
                "requesturl"),
    "status": ("status", "downstreamstatus", "originstatus", "status_code", "response", "response_code", "sc_status"),
    "time": ("@timestamp", "timestamp", "time", "time_local", "time_iso8601", "ts", "startutc", "starttime", "date"),
    "agent": ("http_user_agent", "user_agent", "useragent", "request_user-agent", "agent", "user-agent"),
}  # fmt: skip
"""By what a line tells: the keys under which it does, in lower case."""

_REQUEST = re.compile(r"^[A-Z]+ (\S+)(?: HTTP/[\d.]+)?$")
HEAD_LINES = 20


def looks_like_log(head: bytes) -> bool:
    """Whether the first lines of a file are those of an access log."""
    lines = [line for line in head.split(b"\n")[:HEAD_LINES] if line.strip()]
    if lines and all(line.lstrip().startswith(b"{") for line in lines):
        return True
    return bool(lines) and sum(1 for line in lines if LOG_LINE.match(line)) > len(lines) / 2


def from_json(data: bytes) -> list[tuple[bytes, ...]]:
    """The JSON lines that tell an address and a status, as `LOG_LINE` takes lines apart."""
    found = []
    for line in data.split(b"\n"):
        try:
            told = json.loads(line) if line.strip() else None
        except (ValueError, RecursionError):
            continue
        if not isinstance(told, dict):
            continue
        values: dict[str, str] = {}
        for name, value in _flat(told):
            values.setdefault(name, value)
            values.setdefault(name.rpartition(".")[2], value)
        address = _REQUEST.sub(r"\1", _of("address", values))
        status = _of("status", values)
        if address and status.isdigit() and len(status) == 3:
            parts = (_of("host", values), _of("time", values), address, status, _of("agent", values))
            found.append(tuple(part.encode("utf-8", "surrogatepass") for part in parts))
    return found


def _of(what: str, values: dict[str, str]) -> str:
    return next((values[name] for name in _NAMES[what] if values.get(name)), "")


def _flat(told: dict[str, Any], before: str = "", depth: int = 3) -> Iterator[tuple[str, str]]:
    """Keys and values, those inside another with its name before them; of a list the first."""
    for key, value in told.items():
        name = before + str(key).lower()
        if isinstance(value, dict) and depth:
            yield from _flat(value, name + ".", depth - 1)
        else:
            first = value[0] if isinstance(value, list) and value else value
            if isinstance(first, str | int | float) and not isinstance(first, bool):
                yield name, str(first)
