"""Builds of real generators, each audited as a folder and as served: one verdict, the same causes, and how many there are.

`python bench/systems.py` makes an environment of its own in a temporary folder and installs the generators into it, which takes minutes.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import threading
import venv
from collections.abc import Callable
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

BASE = "https://www.sarnfell.example/"
PACKAGES = ("mkdocs", "nikola", "pdoc", "pelican", "sphinx")
NAMES = ("routes", "conditions", "wardens", "bookings")
TEXT = "All that the wardens know of {0}: the way there, the beds and the stove, and who has the key in winter."


def put(folder: Path, files: dict[str, str]) -> None:
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, "utf-8")


def mkdocs(folder: Path, run: Callable[..., None]) -> Path:
    put(folder, {f"docs/{n}.md": f"# {n}\n\n{TEXT.format(n)} [Routes](routes.md)\n" for n in ("index", *NAMES)})
    put(folder, {"mkdocs.yml": f"site_name: Sarnfell\nsite_url: {BASE}\n"})
    run("mkdocs", "build", "-q")
    return folder / "site"


def nikola(folder: Path, run: Callable[..., None]) -> Path:
    run("nikola", "init", "-q", "site")
    conf = folder / "site/conf.py"
    conf.write_text(conf.read_text("utf-8").replace("https://example.com/", BASE), "utf-8")
    head = "<!--\n.. title: {0}\n.. slug: {0}\n.. date: 2026-01-0{1} 08:00:00 UTC\n.. tags: snow\n-->\n"
    put(
        folder / "site",
        {f"posts/{n}.html": head.format(n, i + 1) + f"<p>{TEXT.format(n)}</p>" for i, n in enumerate(NAMES)},
    )
    run("nikola", "build", "-q", cwd=folder / "site")
    return folder / "site/output"


def pdoc(folder: Path, run: Callable[..., None]) -> Path:
    put(
        folder,
        {f"huts/{n}.py": f'"""{TEXT.format(n)}"""\n\n\ndef key() -> str:\n    """Who has it."""\n' for n in NAMES},
    )
    put(folder, {"huts/__init__.py": '"""The huts."""\n'})
    run("pdoc", "./huts", "-o", "out")
    return folder / "out"


def pelican(folder: Path, run: Callable[..., None]) -> Path:
    head = "Title: {0}\nDate: 2026-01-0{1}\nCategory: conditions\nTags: snow\n\n{2}\n"
    put(folder, {f"content/{n}.md": head.format(n, i + 1, TEXT.format(n)) for i, n in enumerate(NAMES)})
    put(folder, {"conf.py": f"AUTHOR = 'Warden'\nSITENAME = 'Sarnfell'\nSITEURL = '{BASE[:-1]}'\nTIMEZONE = 'UTC'\n"})
    run("pelican", "content", "-o", "out", "-s", "conf.py", "-q")
    return folder / "out"


def sphinx(folder: Path, run: Callable[..., None]) -> Path:
    contents = "Huts\n====\n\n.. toctree::\n\n" + "".join(f"   {n}\n" for n in NAMES)
    put(folder, {"index.rst": contents, "conf.py": f"project = 'Sarnfell'\nhtml_baseurl = '{BASE}'\n"})
    put(folder, {f"{n}.rst": f"{n}\n{'=' * len(n)}\n\n{TEXT.format(n)}\n" for n in NAMES})
    run("sphinx-build", "-q", ".", "out")
    return folder / "out"


def audit(*arguments: str, cwd: Path) -> tuple[dict[str, int], dict[tuple[str, str | None], int], int]:
    """The counts of the verdict, the causes that are more than notes with their findings, and how many notes there are."""
    command = [sys.executable, "-m", "indrel", "audit", *arguments, "--json", "--fail-on=never", "-q"]
    done = subprocess.run(command, cwd=cwd, capture_output=True, text=True, check=True)
    report: dict[str, Any] = json.loads(done.stdout)
    counts = {name: report["verdict"][name] for name in ("wanted", "lost", "exposed", "conflicts", "faults")}
    loud = {(c["check"], c["relation"]): c["count"] for c in report["causes"] if c["severity"] != "note"}
    return counts, loud, len(report["causes"]) - len(loud)


def main() -> None:
    differ = 0
    with tempfile.TemporaryDirectory() as place:
        scripts = Path(place, "env/bin")
        venv.create(scripts.parent, with_pip=True)
        subprocess.run([scripts / "pip", "install", "-q", *PACKAGES], check=True, capture_output=True)
        for make in (mkdocs, nikola, pdoc, pelican, sphinx):
            folder = Path(place, make.__name__)
            folder.mkdir()

            def run(program: str, *words: str, cwd: Path = folder) -> None:
                subprocess.run([scripts / program, *words], cwd=cwd, check=True, capture_output=True)

            built = make(folder, run)
            as_folder = audit(str(built), "--base", BASE, cwd=folder)
            with ThreadingHTTPServer(("127.0.0.1", 0), partial(Quiet, directory=str(built))) as server:
                threading.Thread(target=server.serve_forever, daemon=True).start()
                connect = f"www.sarnfell.example=http://127.0.0.1:{server.server_port}"
                as_served = audit(BASE, "--connect", connect, "--rate", "0", cwd=folder)
                server.shutdown()
            same = as_folder[:2] == as_served[:2]
            differ += not same
            print(
                f"{make.__name__}: {'one verdict' if same else 'TWO VERDICTS'}; {as_folder[0]}; {as_folder[2]} notes; loud: {as_folder[1]}"
            )
            if not same:
                print(f"  served: {as_served[0]}; {as_served[1]}")
    sys.exit(differ)


class Quiet(SimpleHTTPRequestHandler):
    def log_message(self, format: str, *args: object) -> None:
        pass


if __name__ == "__main__":
    main()
