"""Peak memory of a whole audit (the largest of its processes) of 10,000 and of 100,000 generated pages on nginx."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from crawl import EVERYTHING, NGINX, PORT, PROGRAM
from pages import write

MEASURE = (
    "import resource, subprocess, sys; subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL); "
    "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
)


def peak(pages: int) -> float:
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder, "site")
        write(root, pages)
        Path(folder).chmod(0o755)
        Path(folder, "nginx.conf").write_text(NGINX.format(dir=folder, root=root, port=PORT))
        nginx = subprocess.Popen(["nginx", "-c", f"{folder}/nginx.conf"])
        threading.Event().wait(2)
        try:
            audit = [PROGRAM, "audit", f"http://127.0.0.1:{PORT}/", *EVERYTHING, "--snapshot", f"{folder}/s.indrel"]
            began = time.perf_counter()
            told = subprocess.run([sys.executable, "-c", MEASURE, *audit], capture_output=True, text=True, check=True)
            listed = subprocess.run([PROGRAM, "list", f"{folder}/s.indrel", "--state", "open", "--json"],
                                    capture_output=True, text=True).stdout.count("\n")  # fmt: skip
        finally:
            nginx.terminate()
            nginx.wait()
    seconds = time.perf_counter() - began
    megabytes = int(told.stdout.split()[-1]) / 1024
    print(f"{listed:,} pages read: peak {megabytes:.0f} MiB, {listed / seconds:,.0f} pages a second, with the list")
    return megabytes


def main() -> None:
    small, large = peak(10_000), peak(100_000)
    print(f"ratio: {large / small:.2f} (goal: at most 1.3)")


if __name__ == "__main__":
    main()
