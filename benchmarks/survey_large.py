"""Times a survey of ten million rows over fifty functions, from CSV and from Parquet: seconds and peak memory.

Usage: python benchmarks/survey_large.py [ROWS [FOLDER]]   (about 1.5 GB of disk for ten million)
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import duckdb

ROWS = """SELECT make_timestamp(1803859200000000 + CAST(random() * 31 * 86400 * 1000000 AS BIGINT)) AS "time",
  'f' || (i % 50) AS function, i AS id, 'http' AS "trigger", 'ok' AS outcome,
  round(40 * exp(0.5 * (random() + random() + random() - 1.5)), 3) AS run_ms, 256 AS memory_mb,
  CASE WHEN random() < 0.01 THEN 300 ELSE 0 END AS cold_start_ms FROM range({rows}) t(i)"""


def main(rows: int, folder: Path) -> None:
    """Make the logs, survey each in a process of its own, print what it took."""
    for form in ("csv", "parquet"):
        log = folder / f"log.{form}"
        if not log.exists():
            duckdb.sql(f"COPY ({ROWS.format(rows=rows)}) TO '{log}'")
        begun = time.monotonic()
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime
        command = [sys.executable, "-c", MEASURED, "survey", str(log), "-o", str(folder / f"out-{form}")]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        cpu = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime - before
        peak = done.stderr.strip().splitlines()[-1]
        print(f"{form}: {rows:,} rows in {time.monotonic() - begun:.1f} s ({cpu:.1f} s of CPU), at most {peak} MB")


MEASURED = """import resource, sys
from echotally.cli.failing import exit_code
from echotally.cli.main import cli
code = exit_code(cli, sys.argv[1:])
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024, file=sys.stderr)
raise SystemExit(code)"""

if __name__ == "__main__":
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000
    if len(sys.argv) > 2:
        main(count, Path(sys.argv[2]))
    else:
        with tempfile.TemporaryDirectory() as name:
            main(count, Path(name))
