"""States and all checks on a generated snapshot of 1,000,000 addresses and 20,000,000 links, beside one query.

The baseline is the query that counts links per target and flag. `python bench/snapshot.py [ADDRESSES LINKS [SHAPE]]`.
The shapes: `plain` draws links by chance; `mixed` and `template` are like a site, where two thirds of a page's links are
the template's, to the same hundred pages; in `mixed` one page in twenty has a fault of its own, in `template` one line of
it names the http variant as canonical on every page.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from indrel.core.crawlers import DEFAULT
from indrel.gather.recorder import Recorder
from indrel.snapshot import Snapshot, SnapshotWriter, now

BASE = "https://www.sarnfell.example/"
ROBOTS = b"User-agent: *\nDisallow: /private/\nDisallow: /*?sort=\nAllow: /private/open\nUser-agent: bingbot\nDisallow: /s7/\n"


def generate(path: Path, addresses: int, links: int, shape: str = "plain") -> None:
    """A site in fifty sections; one page in fifty says noindex, one in a hundred is gone, redirects, folds or is unread."""
    with SnapshotWriter(path) as writer:
        writer.set_meta(
            source={"kind": "site", "location": BASE}, base=BASE, started=now(), crawlers=list(DEFAULT),
            hosts=["www.sarnfell.example"], follow_links=True, read_barred=False,
        )  # fmt: skip
        run = writer.con.execute
        run("SELECT setseed(0.5)")
        run(
            f"""INSERT INTO address SELECT i, 'https://www.sarnfell.example', CASE WHEN i = 0 THEN '/'
            WHEN i % 200 = 7 THEN '/private/' || i WHEN i % 300 = 9 THEN '/s' || i % 50 || '/p' || i || '?sort=up'
            ELSE '/s' || i % 50 || '/page-' || i || '.html' END, true FROM range({addresses}) r(i)"""
        )
        run(
            """INSERT INTO answer SELECT id, CASE WHEN id % 100 = 3 THEN 404 WHEN id % 100 = 5 THEN 301 ELSE 200 END, NULL,
            'text/html', CASE WHEN id % 100 = 5 THEN id + 1 END, CASE WHEN id % 100 = 5 THEN '/x' END, 9000, false, NULL, '', NULL
            FROM address WHERE id % 100 <> 11"""
        )
        run(
            """INSERT INTO page BY NAME SELECT address, 'Page ' || address AS title, 'utf-8' AS charset,
            (hash(address) // 4)::BIGINT AS text_hash, 4000 AS text_length, 'words' AS excerpt, 'Page ' || address AS heading,
            600 AS own_words, 20 AS own_links, repeat(md5(address::VARCHAR), 4)::BLOB AS sketch, 0 AS marks,
            (hash(address) // 8)::BIGINT AS bag FROM answer WHERE status = 200"""
        )
        run(
            """INSERT INTO directive SELECT address, 0, CASE WHEN address % 500 = 1 THEN 'googlebot' ELSE '' END, true, false,
            ['noindex'], [], [], NULL, NULL, false, 7, '<meta name="robots" content="noindex">'
            FROM page WHERE address % 50 = 1"""
        )
        run(
            """INSERT INTO canonical SELECT address, 0, 'https://www.sarnfell.example/x',
            CASE WHEN address % 100 = 17 THEN address - 1 ELSE address END, NULL, false, 8, '<link rel="canonical" href="/x">' FROM page"""
        )
        if shape == "template":
            run(f"INSERT INTO address SELECT id + {addresses}, 'http://www.sarnfell.example', path, true FROM address")
            run(
                f"""UPDATE canonical SET target = address + {addresses}, text = '<link rel="canonical" href="' || there.url || '">'
                FROM (SELECT id, 'http://www.sarnfell.example' || path AS url FROM address) there WHERE there.id = address"""
            )
        target = {
            "plain": f"CASE WHEN i % 20 < 8 THEN hash(i) % 200 ELSE hash(i) % {addresses} END",
        }.get(shape, f"CASE WHEN i % 3 < 2 THEN i * 7 % 100 ELSE hash(i) % {addresses} END")
        run(
            f"""INSERT INTO link SELECT i * {addresses} // {links} AS source, {target} AS target,
            CASE WHEN target % 2000 = 3 THEN 1 ELSE 0 END, 20 + i % 100, '<a href="/x">' FROM range({links}) r(i)"""
        )
        run(
            "INSERT INTO robots VALUES ('https://www.sarnfell.example', 200, NULL, 'text/plain', [], ?, ?, false, 'site', true, NULL)",
            [BASE + "robots.txt", ROBOTS],
        )
        run("INSERT INTO sitemap BY NAME SELECT 0 AS id, ? AS url, 'robots' AS via, 200 AS status, 'urlset' AS kind, "
            "'http://www.sitemaps.org/schemas/sitemap/0.9' AS namespace", [BASE + "sitemap.xml"])  # fmt: skip
        run(
            f"""INSERT INTO entry SELECT 0, id, origin || path, id, 3, NULL, NULL, NULL, NULL FROM address
            WHERE id < {addresses} AND id % 4 = 0 AND id % 100 <> 16"""
        )
        run("INSERT INTO given VALUES (0, 'start')")
        Recorder(writer, ["www.sarnfell.example"]).finish(True, None)


def baseline(path: Path) -> tuple[float, float]:
    """The best of three runs of the query, in a connection of its own: seconds on the wall, and of the processor."""
    best = (1e9, 1e9)
    # in what an audit's database may hold, the query would not end on 3,000,000 addresses
    with Snapshot(path, "4GB") as snapshot:
        for _ in range(3):
            began, cpu = time.perf_counter(), time.process_time()
            snapshot.rows("SELECT count(*), sum(n) FROM (SELECT target, flags, count(*) AS n FROM link GROUP BY ALL)")
            best = min(best, (time.perf_counter() - began, time.process_time() - cpu))
    return best


def child(path: str) -> None:
    from indrel import pipeline

    began = time.perf_counter()
    site, verdict = pipeline.examine(Path(path))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(time.perf_counter() - began, time.process_time(), peak, len(verdict.findings), len(verdict.crashed))
    site.close()


def main() -> None:
    if sys.argv[1:2] == ["--child"]:
        return child(sys.argv[2])
    addresses, links = (int(a) for a in sys.argv[1:3]) if len(sys.argv) > 2 else (1_000_000, 20_000_000)
    shape, goal = sys.argv[3] if len(sys.argv) > 3 else "plain", 8 if len(sys.argv) < 4 else 20
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "s.indrel")
        began = time.perf_counter()
        generate(path, addresses, links, shape)
        made = time.perf_counter() - began
        one, one_cpu = baseline(path)
        told = subprocess.run(
            [sys.executable, __file__, "--child", str(path)], check=True, capture_output=True, text=True
        )
        seconds, cpu, memory, findings, crashed = map(float, told.stdout.split())
        print(
            f"{shape}, {addresses:,} addresses, {links:,} links: {path.stat().st_size / 1e6:.0f} MB, made in {made:.0f} s"
        )
        print(
            f"states and all checks: {seconds:.2f} s, {cpu:.2f} CPU s, {findings:,.0f} findings, {crashed:.0f} crashed; "
            f"one query: {one:.2f} s, {one_cpu:.2f} CPU s"
        )
        print(
            f"CPU ratio: {cpu / one_cpu:.1f} (goal: at most {goal}); peak memory {memory:,.0f} MiB (goal: under 1,024)"
        )


if __name__ == "__main__":
    main()
