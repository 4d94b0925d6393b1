"""Writes a made-up estate of fifty functions, ten rivers with five each, whose evidence `docs/from-logs-to-a-model.md` surveys.

Usage: python docs/examples/fifty.py FOLDER
"""

from __future__ import annotations

import random
import sys
from pathlib import Path

RIVERS = ("alder", "birch", "cedar", "dogwood", "elm", "fir", "gorse", "hazel", "ivy", "juniper")
HEAD = """schema = "echotally-model/1"
[estate]
name = "Ten rivers"
month = "2027-03"
timezone = "Europe/Berlin"
rate_cards = ["heron.toml"]
seed = 7
"""
RIVER = """
[functions.{r}-intake]
memory = "512 MB"
run = {{ median = "{intake} ms", p95 = "{intake_p95} ms" }}
per_item = "4 ms"
cold_start = "400 ms"
emits = [{{ into = "topics.{r}-flood", each = 0.03 }}]
[functions.{r}-sms]
memory = "256 MB"
run = {{ median = "300 ms", p95 = "900 ms" }}
cold_start = "400 ms"
error_rate = 0.02
[functions.{r}-look]
memory = "1 GB"
run = {{ median = "{look} ms", p95 = "{look_p95} ms" }}
cold_start = "1500 ms"
[functions.{r}-map]
memory = "512 MB"
run = {{ median = "90 ms", p95 = "350 ms" }}
cold_start = "700 ms"
[functions.{r}-charts]
memory = "2 GB"
run = "{charts} s"
timeout = "10 min"
[streams.{r}-levels]
partitions = {partitions}
[topics.{r}-flood]
feeds = [{{ into = "queues.{r}-warnings" }}]
[queues.{r}-warnings]
[folders.{r}-pictures]
[endpoints.{r}-map]
[schedules.{r}-charts]
cron = "{minute} 3 * * *"
[demand.{r}-gauges]
into = "streams.{r}-levels"
rate = "{levels} /h"
[demand.{r}-cameras]
into = "folders.{r}-pictures"
rate = "1 /h"
day_shape = [0, 0, 0, 0, 0, 1, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 1, 0, 0, 0, 0, 0]
[demand.{r}-people]
into = "endpoints.{r}-map"
rate = "{people} /h"
day_shape = [0.2, 0.1, 0.1, 0.1, 0.1, 0.3, 0.8, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1.4, 1.8, 2, 2, 1.8, 1.4, 0.8, 0.4]
[[triggers]]
from = "streams.{r}-levels"
to = "{r}-intake"
batch = 50
batch_wait = "2 min"
[[triggers]]
from = "queues.{r}-warnings"
to = "{r}-sms"
[[triggers]]
from = "folders.{r}-pictures"
to = "{r}-look"
[[triggers]]
from = "endpoints.{r}-map"
to = "{r}-map"
[[triggers]]
from = "schedules.{r}-charts"
to = "{r}-charts"
"""
TROUBLE = """
[[incidents]]
name = "the map server is ill"
at = "2027-03-14T05:00"
lasts = "3 h"
functions = ["alder-map"]
error_rate = 0.9
[environments.live]
"""


def main(folder: Path) -> None:
    """Write ``model.toml``; its card is copied from the demo's."""
    chance = random.Random(50)
    text = HEAD
    for number, river in enumerate(RIVERS):
        intake, look = chance.choice((80, 120, 200)), chance.choice((900, 1_300, 1_700))
        text += RIVER.format(
            r=river, intake=intake, intake_p95=3 * intake, look=look, look_p95=2 * look, charts=chance.choice((90, 150)),
            partitions=2 if number < 3 else 1, minute=5 * number, levels=chance.choice((2, 3)), people=chance.choice((2, 4)),
        )  # fmt: skip
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "model.toml").write_text(text + TROUBLE)
    card = Path(__file__).parents[2] / "src/echotally/demo/files/river-watch/rates/heron.toml"
    (folder / "heron.toml").write_text(card.read_text())


if __name__ == "__main__":
    main(Path(sys.argv[1]))
