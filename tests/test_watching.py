"""The recipes of docs/keep-watch.md, taken out of the document and run; the hooks for commits."""

from __future__ import annotations

import re
import shlex
import subprocess
import sysconfig
from pathlib import Path

import yaml

from cases import HOST, NOINDEX, a, canonical, html, robots, sitemap
from conftest import PROGRAM
from test_program import write_site

ROOT = Path(__file__).parents[1]
RECIPES = re.findall(r"```sh\n(.*?)```", (ROOT / "docs/keep-watch.md").read_text(), re.DOTALL)
GOOD = {
    "index.html": html(canonical("/"), a("/a.html", "/gone")),
    "a.html": html(canonical("/a.html")),
    "robots.txt": robots(),
    "sitemap.xml": sitemap("/", "/a.html"),
}
BAD = {**GOOD, "a.html": html(canonical("/a.html") + NOINDEX)}
PATH = f"{sysconfig.get_path('scripts')}:/usr/bin:/bin"


def sh(folder: Path, script: str, *arguments: str) -> tuple[int, str]:
    done = subprocess.run(
        ["sh", "-c", script, "sh", *arguments], cwd=folder, env={"PATH": PATH}, capture_output=True, text=True, timeout=120
    )  # fmt: skip
    assert "Traceback" not in done.stderr, done.stderr
    return done.returncode, done.stdout


def test_every_night(tmp_path: Path) -> None:
    (tmp_path / "state").mkdir()
    build = write_site(tmp_path / "build", GOOD)

    def night() -> tuple[int, str]:
        return sh(tmp_path, RECIPES[0], str(build), "state")

    code, told = night()
    assert code == 1 and "link-to-gone" in told, "without a baseline all is told"
    assert night() == (0, ""), "nothing new, nothing said"
    write_site(build, BAD)
    code, told = night()
    assert code == 1 and "listed-hidden" in told and "link-to-gone" not in told
    assert night() == (0, "") and (tmp_path / "state/report.html").is_file()
    code, told = sh(tmp_path, RECIPES[0], str(tmp_path / "no-such-folder"), "state")
    assert code == 2 and "is neither a folder" in told and (tmp_path / "state/last.indrel").is_file()


def test_each_build(tmp_path: Path) -> None:
    script = RECIPES[1].replace("pip install --quiet indrel\n", "")
    assert script != RECIPES[1] and f"--base {HOST}/" in script
    write_site(tmp_path / "public", GOOD)
    assert sh(tmp_path, script)[0] == 1
    (tmp_path / "audit.indrel").rename(tmp_path / "baseline.indrel")
    assert sh(tmp_path, script)[0] == 0
    write_site(tmp_path / "public", BAD)
    (tmp_path / "audit.indrel").unlink()
    assert sh(tmp_path, script)[0] == 1 and "listed-hidden" in (tmp_path / "audit.md").read_text()
    assert '"uri": "public/a.html"' in (tmp_path / "audit.sarif").read_text()


def test_before_a_commit(tmp_path: Path) -> None:
    hooks = {h["id"]: h for h in yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text())}
    named = set(re.findall(r"- id: (\S+)", (ROOT / "docs/keep-watch.md").read_text()))
    assert named == set(hooks)
    write_site(
        tmp_path,
        {"a/robots.txt": robots(), "b/robots.txt": "User-agent: *\nDisalow: /x\n", "b/sitemap-x.xml": sitemap("/")},
    )
    for name, files, code in [
        ("indrel-robots", ["a/robots.txt"], 0),
        ("indrel-robots", ["a/robots.txt", "b/robots.txt"], 1),
        ("indrel-sitemap", ["b/sitemap-x.xml"], 0),
    ]:
        assert all(re.search(hooks[name]["files"], file) for file in files)
        command = [PROGRAM, *shlex.split(hooks[name]["entry"])[1:], *files]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=60)
        assert done.returncode == code and all(file in done.stdout for file in files), done.stdout + done.stderr
    assert not re.search(hooks["indrel-robots"]["files"], "docs/robots.txt.md")
