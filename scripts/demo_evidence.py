"""Makes the demo's evidence with the stand-in platform: a world a little unlike the model, as worlds are."""

from __future__ import annotations

from pathlib import Path

import pandas as pd

from echotally.evidence.run_log import run_log
from echotally.evidence.telemetry.otlp_writing import metrics, spans, write_otlp
from echotally.output.base.exports import csv_text
from echotally.output.projection.projection_exports import focus_frame
from echotally.projection.loaded import load
from echotally.projection.project import project

RIVER = Path(__file__).parent.parent / "src/echotally/demo/files/river-watch"
#: What the model does not know: pictures take longer to look through, and there are more of them.
WORLD = (("functions.look.run", '{ median = "850 ms", p95 = "2100 ms" }'), ("demand.cameras.rate", "27 /h"))
PLAN, SEED = "heron.shared", 2_027
#: One trace in so many is kept, as platforms do: with the rest all evidence stays below 3 MB.
EVERY = 5


def main() -> None:
    """Write ``logs/``: three days of one function as rows, the month's bill and metrics whole, and spans of one trace in five."""
    model, logs = RIVER / "river.toml", RIVER / "logs"
    logs.mkdir(exist_ok=True)
    loaded = load(model, WORLD)
    frame = pd.concat(run_log(loaded, PLAN, seed=SEED))
    days = frame[(frame["function"] == "look") & (frame["environment"] == "live") & (frame["time"] < "2027-03-04")]
    shown = days.assign(time=days["time"].dt.strftime("%Y-%m-%dT%H:%M:%S.%fZ")).round({"run_ms": 3, "cold_start_ms": 3})
    (logs / "look.csv").write_text(csv_text(shown))
    bill = focus_frame(project(model, WORLD, plans=[PLAN], seed=SEED))
    (logs / "bill.csv").write_text(bill.to_csv(index=False, lineterminator="\n"))
    write_otlp(logs / "metrics.otlp.json.gz", [metrics(loaded, PLAN, SEED)])
    write_otlp(logs / "spans.otlp.json.gz", spans(loaded, PLAN, SEED, every=EVERY))


if __name__ == "__main__":
    main()
