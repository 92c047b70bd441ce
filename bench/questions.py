"""What a question costs, on generated snapshots of several sizes: CPU seconds and peak memory of the whole program.

`python bench/questions.py [ADDRESSES ...]` (default 1,000 and 300,000, 20 links each). Ratios are against
`python -c "import typer, duckdb"`, and for whole lists against a query that writes the same addresses as CSV.
"""

from __future__ import annotations

import os
import subprocess
import sys
import sysconfig
import tempfile
import time
from pathlib import Path

from snapshot import generate

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "indrel")
ROUNDS = 3
QUESTIONS = {
    "explain": ("explain", "/s1/page-1.html", "--from", "{s}"),
    "list --state gone": ("list", "--from", "{s}", "--state", "gone", "-o", "gone.csv"),
    "list --section": ("list", "--from", "{s}", "--section", "/s1/*", "-o", "section.csv"),
    "list, whole, to CSV": ("list", "--from", "{s}", "-o", "all.csv"),
    "robots matrix": ("robots", "matrix", "robots.txt", "--from", "{s}"),
    "robots impact": ("robots", "impact", "snapshot", "robots.txt", "--from", "{s}"),
    "report to CSV": ("report", "--from", "{s}", "-o", "report.csv"),
    "report to JSON": ("report", "--from", "{s}", "-o", "report.json"),
    "report to SARIF": ("report", "--from", "{s}", "-o", "report.sarif"),
    "compare with itself": ("compare", "{s}", "{s}"),
}
WRITES = """import duckdb, sys
con = duckdb.connect(); con.execute(f"ATTACH '{sys.argv[1]}' AS s (READ_ONLY)")
con.execute("COPY (SELECT origin || path AS url, kind, section, want, status, clicks FROM s.fact JOIN s.place ON address = id "
            "WHERE known ORDER BY url) TO 'plain.csv'")"""


def run(command: list[str], folder: Path) -> tuple[float, float, float]:
    """CPU seconds, wall seconds and peak memory (MiB) of one process, the median round by CPU."""
    found = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        _, _, usage = os.wait4(process.pid, 0)
        process.returncode = 0
        found.append((usage.ru_utime + usage.ru_stime, time.perf_counter() - began, usage.ru_maxrss / 1024))
    return sorted(found)[ROUNDS // 2]


def main() -> None:
    sizes = [int(a) for a in sys.argv[1:]] or [1_000, 300_000]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "robots.txt").write_text("User-agent: *\nDisallow: /s3/\n")
        bare = run([sys.executable, "-c", "import typer, duckdb"], folder)[0]
        print(f"import typer, duckdb: {bare:.2f} CPU s")
        for size in sizes:
            path = folder / f"s{size}.indrel"
            generate(path, size, size * 20)
            first = run([PROGRAM, "audit", str(path), "--fail-on", "never", "-q"], folder)
            plain = run([sys.executable, "-c", WRITES, str(path)], folder)
            print(f"\n{size:,} addresses, {size * 20:,} links: {path.stat().st_size / 1e6:,.0f} MB")
            print(
                f"{'audit of the snapshot (kept)':<30}{first[0]:>8.2f} CPU s {first[1]:>8.2f} wall {first[2]:>8,.0f} MiB"
            )
            print(f"{'a query that writes CSV':<30}{plain[0]:>8.2f} CPU s {plain[1]:>8.2f} wall {plain[2]:>8,.0f} MiB")
            for what, arguments in QUESTIONS.items():
                cpu, wall, memory = run([PROGRAM, *(a.replace("{s}", str(path)) for a in arguments), "-q"], folder)
                print(
                    f"{what:<30}{cpu:>8.2f} CPU s {wall:>8.2f} wall {memory:>8,.0f} MiB   {cpu / bare:>5.1f} x bare "
                    f"{cpu / plain[0]:>6.1f} x plain CSV"
                )


if __name__ == "__main__":
    main()
