"""The files below a folder, and what is left out: links that lead out of it, what is no file, what is too deep."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from indrel.base.plain import clip

DEEPEST = 200
"""Folders below one another that are read."""


@dataclass
class Listing:
    """Files below a folder, relative, in order; and what was left out: links that lead out of it, and what is no file."""

    files: list[str] = field(default_factory=list)
    outside: list[str] = field(default_factory=list)
    deep: list[str] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)

    def notes(self) -> list[str]:
        """What a reader has to know of what was left out."""
        found = []
        for names, why in (
            (self.outside, "leads out of the folder (see --follow-symlinks)|lead out of the folder (see --follow-symlinks)"),
            (self.odd, "is not a file|are not files"),
            (self.deep, f"is more than {DEEPEST} folders deep|are more than {DEEPEST} folders deep"),
        ):  # fmt: skip
            if names:
                one, many = why.split("|")
                found.append(
                    f"{len(names):,} skipped, such as {clip(shown(names[0]), 80)}: {one if len(names) == 1 else many}"
                )
        return found


def list_files(folder: Path, links_out: bool = False) -> Listing:
    """What is below a folder. Symbolic links to folders are entered only with `links_out`, each folder once."""
    found = Listing()
    top = os.path.realpath(folder)
    entered = {top}
    for root, folders, names in _walk(folder, links_out, found.deep):
        inside = os.path.relpath(root, folder)
        prefix = "" if inside == "." else f"{inside}/"
        for name in list(folders):
            path = os.path.join(root, name)
            if os.path.islink(path):
                real = os.path.realpath(path)
                if not links_out and not _is_inside(real, top):
                    found.outside.append(prefix + name)
                elif links_out and real in entered:
                    folders.remove(name)
                entered.add(real)
        folders.sort()
        for name in names:
            path = os.path.join(root, name)
            if not links_out and os.path.islink(path) and not _is_inside(os.path.realpath(path), top):
                found.outside.append(prefix + name)
            elif not os.path.isfile(path):  # a pipe, a device, a link to nothing: reading it may never end
                found.odd.append(prefix + name)
            else:
                found.files.append(prefix + name)
    for one in (found.files, found.outside, found.odd):
        one.sort()
    return found


def _walk(top: Path, links_out: bool, deep: list[str]) -> Iterator[tuple[str, list[str], list[str]]]:
    """Each folder with its folders, which the caller may remove from the list, and other names; no deeper than `DEEPEST`."""
    waiting = [(str(top), 0)]
    while waiting:
        root, depth = waiting.pop()
        folders: list[str] = []
        names: list[str] = []
        with contextlib.suppress(OSError), os.scandir(root) as entries:
            for entry in entries:
                (folders if entry.is_dir() else names).append(entry.name)
        yield root, folders, names
        below = [os.path.join(root, name) for name in reversed(folders)]
        if depth == DEEPEST:
            deep += [os.path.relpath(path, top) for path in below]
        else:
            waiting += [(path, depth + 1) for path in below if links_out or not os.path.islink(path)]


def _is_inside(path: str, top: str) -> bool:
    return path == top or path.startswith(top.rstrip("/") + "/")


def shown(name: str) -> str:
    """A file's name as text: bytes that are no UTF-8 are escaped."""
    return os.fsencode(name).decode("utf-8", "backslashreplace")
