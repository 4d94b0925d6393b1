"""How long and how much memory it takes to fit run logs of growing size (Parquet), each in a process of its own.

Run: .venv/bin/python benchmarks/logs.py [ROWS ...]
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import duckdb

ROWS = (2_500_000, 5_000_000, 10_000_000)
MAKE = """
COPY (SELECT timestamp '2027-01-01' + to_microseconds(CAST(i * 259200 AS BIGINT)) AS time, 'intake' AS function, i AS id,
  1 + (i % 7) AS events, CASE WHEN hash(i) % 500 = 0 THEN 'error' ELSE 'ok' END AS outcome,
  CASE WHEN hash(i + 1) % 300 = 0 THEN 400.0 ELSE 0.0 END AS cold_start_ms,
  round(exp(4.7 + 0.7 * sqrt(-2 * ln((hash(i * 3 + 1) % 1000000 + 0.5) / 1e6)) * cos(6.283185 * ((hash(i * 7 + 5) % 1000000) / 1e6)))
    + 4.0 * (1 + (i % 7)), 3) AS run_ms, 512 AS memory_mb, 100 + (hash(i) % 80) AS memory_used_mb
  FROM range({rows}) t(i)) TO '{path}' (FORMAT parquet)
"""


def main(sizes: list[int]) -> None:
    """Print rows, seconds, seconds a million rows, and the largest memory of all processes so far."""
    with tempfile.TemporaryDirectory() as folder:
        for rows in sizes:
            path = Path(folder) / f"{rows}.parquet"
            duckdb.sql(MAKE.format(rows=rows, path=path))
            began = time.perf_counter()
            subprocess.run([sys.executable, "-m", "echotally", "fit", str(path)], check=True, stdout=subprocess.DEVNULL)
            took = time.perf_counter() - began
            peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
            print(f"{rows:>12,} rows {took:6.1f} s {took / rows * 1e6:6.2f} s/million, at most {peak:,.0f} MB")
            path.unlink()


if __name__ == "__main__":
    main([int(n) for n in sys.argv[1:]] or list(ROWS))
