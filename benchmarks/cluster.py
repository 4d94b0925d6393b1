"""From which size on a cluster pays: a sweep of the small river watch with 1, 2 and 4 worker processes, and on this machine alone.

    python benchmarks/cluster.py [POINTS]

What a study of ``n`` points takes on ``w`` workers of a core each is close to

    T(n, w) = greeting + n * max(play / w, tell)

``greeting`` is the connection, the files sent and the model read by each worker, once; ``play`` a core's time to play a point;
``tell`` what scheduler and caller spend on a point, which no further worker makes shorter. Each is measured here: ``play`` and
``greeting`` are the slope and the start of the wall time with one worker, ``tell`` is the CPU time of the process in which caller
and scheduler are. More workers than cores only take turns, so that four on two cores show that nothing breaks, and no more.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

from distributed import LocalCluster

from echotally.studies.sweep import sweep

MODEL = Path(__file__).parent / "models" / "river-small.toml"
PLAN = "heron.per-run"
FEW = 8


def took(points: int, **where: object) -> tuple[float, float, list[object]]:
    """Wall time and this process's CPU time, s, of a sweep, and its rows."""
    vary = [f"environments.live.demand=1..1.2:{points}"]
    began, used = time.perf_counter(), time.process_time()
    rows = sweep(MODEL, vary, plans=[PLAN], **where).rows  # type: ignore[arg-type]
    return time.perf_counter() - began, time.process_time() - used, list(rows)


def on(workers: int, points: int) -> tuple[float, float, float, list[object]]:
    """Wall times of few and of many points on so many workers, this process's CPU time a point, and the rows."""
    with LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=":0") as cluster:  # type: ignore[no-untyped-call]
        where = {"cluster": cluster.scheduler_address}
        # Workers have the library loaded, as those of a cluster that stands have.
        took(FEW, **where)
        few, _, _ = took(FEW, **where)
        many, used, rows = took(points, **where)
        return few, many, used / points, rows


def main(points: int) -> None:
    """Print what was measured, and what follows from it for 100 workers."""
    alone, _, wanted = took(points, workers=1)
    both, _, _ = took(points, workers=2)
    print(f"{points} points on this machine: one process {alone:.1f} s, two {both:.1f} s")
    play = greeting = tell = 0.0
    for workers in (1, 2, 4):
        few, many, spent, rows = on(workers, points)
        assert rows == wanted, "a cluster must not change the answer"
        print(f"{workers} worker(s): {FEW} points {few:.2f} s, {points} points {many:.1f} s, the same rows")
        if workers == 1:
            play = (many - few) / (points - FEW)
            greeting, tell = max(0.0, few - FEW * play), spent
    print(f"greeting {greeting:.2f} s, play {play * 1e3:.0f} ms a point, tell {tell * 1e3:.1f} ms a point")
    for workers in (8, 100):
        rate = max(play / workers, tell)
        print(
            f"{workers} workers: T(n) = {greeting:.2f} s + n * {rate * 1e3:.1f} ms; 10,000 points {greeting + 1e4 * rate:.0f} s"
        )
    here = play / 2
    for workers in (4, 8, 100):
        rate = max(play / workers, tell)
        print(f"{workers} workers pay beside two cores here from {greeting / (here - rate):.0f} points on")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 120)
