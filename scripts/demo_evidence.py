"""Makes the demo's evidence with the stand-in platform: a world a little unlike the model, as worlds are."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

import pandas as pd

from echotally.evidence.run_log import run_log
from echotally.output.base.exports import csv_text
from echotally.output.projection.projection_exports import focus_frame
from echotally.projection.loaded import load
from echotally.projection.project import project

RIVER = Path(__file__).parent.parent / "src/echotally/demo/files/river-watch"
#: What the model does not know: there are more pictures, they and the clips take longer, the price of a vCPU-second has
#: gone up, and people live by their clocks, where the model repeats a week of hours.
WORLD = (
    ("demand.cameras.rate", "200 /h"),
    ("functions.look.run", '{ median = "7 s", p95 = "14 s" }'),
    ("functions.clip.run", '{ median = "80 s", p95 = "160 s" }'),
    ("cards.heron.plans.shared.price.vcpu_seconds.unit", "0.0000400"),
)
PLAN, SEED = "heron.shared", 2_027


def main() -> None:
    """Write ``logs/``: a day of one function as rows, and the month's bill. ``county/`` is frozen: it is of the small river."""
    logs = RIVER / "logs"
    logs.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        world = Path(folder) / "river-watch"
        shutil.copytree(RIVER, world)
        (world / "visitors.csv").write_text(_by_the_clock(RIVER / "visitors.csv"))
        _write(world / "river.toml", logs)


def _by_the_clock(week: Path) -> str:
    """The week's counts for every hour of the month at which a clock in the estate's zone shows it: 743 in March."""
    counts = pd.read_csv(week)["count"].to_numpy()
    hours = pd.date_range("2027-03-01", "2027-04-01", freq="h", inclusive="left", tz="Europe/Dublin")
    of_week = counts[hours.day_of_week * 24 + hours.hour]
    return str(pd.DataFrame({"time": hours.strftime("%Y-%m-%dT%H:%M:%S%z"), "count": of_week}).to_csv(index=False))


def _write(model: Path, logs: Path) -> None:
    loaded = load(model, WORLD)
    frame = pd.concat(run_log(loaded, PLAN, seed=SEED))
    days = frame[(frame["function"] == "look") & (frame["environment"] == "live") & (frame["time"] < "2027-03-02")]
    shown = days.assign(time=days["time"].dt.strftime("%Y-%m-%dT%H:%M:%S.%fZ")).round({"run_ms": 3, "cold_start_ms": 3})
    (logs / "look.csv").write_text(csv_text(shown))
    bill = focus_frame(project(model, WORLD, plans=[PLAN], seed=SEED))
    (logs / "bill.csv").write_text(bill.to_csv(index=False, lineterminator="\n"))


if __name__ == "__main__":
    main()
