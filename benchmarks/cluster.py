"""From which size on a cluster pays: a sweep of the small river watch with 1, 2 and 4 worker processes, and on this machine alone.

    python benchmarks/cluster.py [POINTS]      a study of so many points
    python benchmarks/cluster.py --parts       one month of a hundred functions, in parts

What a study of ``n`` points takes on ``w`` workers of a core each is close to

    T(n, w) = greeting + n * max(play / w, tell)

``greeting`` is the connection, the files sent and the model read by each worker, once; ``play`` a core's time to play a point;
``tell`` what scheduler and caller need for a point, which no further worker makes shorter. Each is measured here: ``play`` and
``greeting`` are the slope and the start of the wall time with one worker, ``tell`` the wall time of tasks that answer as much and
play nothing. More workers than cores take turns, so that four on two cores show that nothing breaks, and no more.

One month in parts is close to

    T(w) = own + work / w        down to w = the number of parts

``work`` is the workers' CPU time to play and to merge all of it, ``own`` the caller's; both are measured with one worker.
"""

from __future__ import annotations

import math
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

import speed
from distributed import Client, LocalCluster

from echotally.engine.machines import cluster
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded, load
from echotally.projection.project import project
from echotally.studies.sweep import sweep

MODEL = Path(__file__).parent / "models" / "river-small.toml"
PLAN = "heron.per-run"
FEW, _TOLD = 2, 2_000
PARTS = 100


def took(points: int, **where: object) -> tuple[float, list[object]]:
    """Wall time, s, of a sweep of so many volumes, and its rows."""
    vary = [f"environments.live.demand=1..1.2:{points}"]
    began = time.perf_counter()
    rows = sweep(MODEL, vary, plans=[PLAN], **where).rows  # type: ignore[arg-type]
    return time.perf_counter() - began, list(rows)


def on(workers: int, points: int) -> tuple[float, float, float, list[object]]:
    """Of so many workers: the least wall time of the shortest sweep, that of a long one, what telling of a point takes, the rows."""
    with LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=":0") as found:  # type: ignore[no-untyped-call]
        address = found.scheduler_address
        # Workers have the library loaded, as those of a cluster that stands have.
        took(FEW, cluster=address)
        short = min(took(FEW, cluster=address)[0] for _ in range(3))
        long, rows = min((took(points, cluster=address) for _ in range(2)), key=lambda each: each[0])
        with cluster(address) as places:
            began = time.perf_counter()
            told = places.client.map(_row, range(_TOLD), pure=False)
            places.client.gather(told)  # type: ignore[no-untyped-call]
            return short, long, (time.perf_counter() - began) / _TOLD, rows


def _row(number: int) -> dict[str, float]:
    """As much to tell as of a point, and nothing to play."""
    return {f"figure {n}": float(number + n) for n in range(20)}


def main(points: int) -> None:
    """Print what was measured, and what follows from it for more workers than there are here."""
    alone, wanted = min((took(points, workers=1) for _ in range(2)), key=lambda each: each[0])
    both, _ = min((took(points, workers=2) for _ in range(2)), key=lambda each: each[0])
    print(f"{points} points on this machine: one process {alone:.1f} s, two {both:.1f} s")
    play = greeting = tell = 0.0
    for workers in (1, 2, 4):
        short, long, told, rows = on(workers, points)
        assert rows == wanted, "a cluster must not change the answer"
        print(f"{workers} worker(s): {FEW} points {short:.2f} s, {points} points {long:.1f} s, the same rows")
        if workers == 1:
            play, tell = (long - short) / (points - FEW), told
            greeting = max(0.0, short - FEW * play)
    print(f"greeting {greeting:.2f} s, play {play * 1e3:.0f} ms a point, tell {tell * 1e3:.2f} ms a point")
    here = both / points
    for workers in (4, 8, 100):
        rate = max(play / workers, tell)
        pays = greeting / (here - rate) if here > rate else float("inf")
        print(
            f"{workers} workers: T(n) = {greeting:.2f} s + n * {rate * 1e3:.2f} ms; 10,000 points {greeting + 1e4 * rate:.0f} s "
            f"(here {1e4 * here:.0f} s); it pays from {max(2, math.ceil(pays))} points on"
        )


def month_took(loaded: Loaded, **where: object) -> tuple[float, PlayedPlan]:
    """Wall time, s, of a projection on the one plan, and its month."""
    began = time.perf_counter()
    found = project(loaded, **where)  # type: ignore[arg-type]
    return time.perf_counter() - began, found.played[0]


class There(NamedTuple):
    """A month played by workers: wall time and the CPU times of the workers and of the caller, s."""

    wall_s: float
    work_s: float
    own_s: float
    month: PlayedPlan


def month_there(loaded: Loaded, address: str) -> There:
    """The month on the workers of a scheduler."""
    with Client(address) as client:  # type: ignore[no-untyped-call]
        before, own = sum(client.run(time.process_time).values()), time.process_time()
        wall, month = month_took(loaded, cluster=address)
        work, own = sum(client.run(time.process_time).values()) - before, time.process_time() - own
    return There(wall, work, own, month)


def parts_main() -> None:
    """The same for the parts of one month: a hundred independent functions, 24 million attempts."""
    with tempfile.TemporaryDirectory() as name:
        path = speed.estate_of(Path(name), PARTS, 0.09, "")
        loaded = load(path)
        both, wanted = min((month_took(loaded) for _ in range(2)), key=lambda each: each[0])
        print(f"{PARTS} functions, {wanted.totals.attempts['total']:,} attempts, this machine's cores: {both:.1f} s")
        work = own = 0.0
        for workers in (1, 2, 4):
            with LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=":0") as found:  # type: ignore[no-untyped-call]
                rounds = [month_there(loaded, found.scheduler_address) for _ in range(3)]
            assert all(each.month.bill == wanted.bill for each in rounds), "a cluster must not change the answer"
            # The first has the workers load the library.
            best = min(rounds[1:], key=lambda each: each.wall_s)
            work, own = (best.work_s, best.own_s) if workers == 1 else (work, own)
            print(
                f"{workers} worker(s): {best.wall_s:.1f} s, the same month (work {best.work_s:.1f} s, own {best.own_s:.1f} s)"
            )
        for workers in (4, 8, 100):
            print(f"{workers} workers of their own: {own + work / min(workers, PARTS):.1f} s by the formula")


if __name__ == "__main__":
    if sys.argv[1:] == ["--parts"]:
        parts_main()
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 120)
