"""Installs the programs from Debian that some tests need, where that is possible; else names what is missing, and the tests skip."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys

PACKAGES = {
    "nginx": "nginx-light",
    "chromium": "chromium",
    "chromium-headless-shell": "chromium-headless-shell",
    "openssl": "openssl",
}


def missing() -> dict[str, str]:
    """The programs that are not here, with their packages."""
    path = f"{os.environ.get('PATH', os.defpath)}:/usr/sbin"
    return {program: package for program, package in PACKAGES.items() if not shutil.which(program, path=path)}


def main() -> int:
    apt = shutil.which("apt-get")
    if (wanted := missing()) and apt and os.getuid() == 0:
        env = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
        for words in (["update"], ["install", "-y", "--no-install-recommends", *wanted.values()]):
            subprocess.run([apt, "-qq", *words], env=env, stdout=subprocess.DEVNULL, check=False)
    if wanted := missing():
        print(
            f"tests that need these are skipped: {', '.join(wanted)} (Debian: apt-get install {' '.join(wanted.values())})"
        )
    return 0


if __name__ == "__main__":
    sys.exit(main())
