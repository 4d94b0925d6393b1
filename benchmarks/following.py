"""What following one event costs beside projecting the month: CPU time of both, in turns, as ratios.

    python benchmarks/following.py [MODEL] [CARD.PLAN]

The demo with twenty times its readings by default. What is compared is the same plan played once by ``project``.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

from echotally.demo import write_example
from echotally.errors import BadInput
from echotally.projection.loaded import Loaded, load
from echotally.projection.project import project_plan
from echotally.studies.follow import Which
from echotally.studies.follow.follow import follow_loaded

ROUNDS = 5
MORE = (("demand.gauges.rate", "3200 /h"), ("demand.cameras.rate", "300 /h"))


def cpu(what: Callable[[], object]) -> float:
    """CPU seconds of one call."""
    begun = time.process_time()
    what()
    return time.process_time() - begun


def ratio(loaded: Loaded, plan: str, which: Which) -> float | None:
    """Following by projecting, the median of rounds in turns; None where there is no such event."""
    offer, seed, found = loaded.offer(plan), loaded.model.estate.seed, []
    try:
        for _ in range(ROUNDS):
            once = cpu(lambda: project_plan(loaded, offer, seed))
            found.append(cpu(lambda: follow_loaded(loaded, which, plan)) / once)
    except BadInput:
        return None
    return median(found)


def main() -> None:
    """Print a line a question."""
    with tempfile.TemporaryDirectory() as name:
        write_example("river-watch", Path(name))
        given = sys.argv[1] if len(sys.argv) > 1 else None
        loaded = load(given or Path(name) / "river.toml", () if given else MORE)
        plan = sys.argv[2] if len(sys.argv) > 2 else "heron.per-run"
        project_plan(loaded, loaded.offer(plan), 1)
        questions = [Which(happened=each) for each in ("slowest", "median", "throttled", "coldest", "dead-letter")]
        if not given:
            questions += [Which(event=f"demand.gauges@live:{n}") for n in (1_000, 2_300_000)]
        for which in questions:
            found = ratio(loaded, plan, which)
            print(f"{which.words:50} {'none' if found is None else f'{found:.2f}'}")


if __name__ == "__main__":
    main()
