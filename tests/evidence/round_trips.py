"""A round trip: an estate is played by the stand-in, surveyed from what that leaves, and both models' months are laid side by side."""

from __future__ import annotations

import csv
import json
import math
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from echotally import project
from echotally.evidence.bill.focus import COLUMNS, focus_rows
from echotally.evidence.survey.made import Survey, write_files
from echotally.evidence.survey.survey import survey
from echotally.output.evidence.log_files import write_log
from echotally.output.evidence.survey_page import edges_of
from echotally.output.projection.projection_json import projection_json
from echotally.projection.loaded import load
from tests.evidence.made_estates import Made, made_estate

PLAN = "osprey.main"


@dataclass
class Trip:
    """What one round trip showed; ``misses`` is empty where everything is as the issue wants it."""

    made: Made
    found: Survey
    truth: dict[str, Any]
    again: dict[str, Any]
    folder: Path
    misses: list[str] = field(default_factory=list)


def round_trip(seed: int, form: str, folder: Path) -> Trip:
    """``form`` is that of the log: csv, parquet, otlp.json or otlp.jsonl.gz."""
    made = made_estate(seed)
    folder.mkdir(parents=True, exist_ok=True)
    loaded = load(made.write(folder))
    log = folder / f"log.{form}"
    write_log(loaded, PLAN, None, log)
    metrics = []
    if "otlp" in form:
        metrics = [folder / "m.metrics.json"]
        write_log(loaded, PLAN, None, metrics[0])
    projection = project(folder / "model.toml", plans=[PLAN])
    write_bill(projection, PLAN, folder / "bill.csv")
    found = survey([log], bills=[folder / "bill.csv"], metrics=metrics, hold_back_s=0)
    out = folder / "out"
    write_files(found, out)
    again = project(out / "model.toml")
    trip = Trip(made, found, _plan(projection), _plan(again), folder)
    _lay_beside(trip)
    _wiring(trip, "otlp" in form)
    return trip


def _plan(projection: Any) -> dict[str, Any]:
    return json.loads(projection_json(projection))["plans"][0]


def write_bill(projection: Any, plan: str, path: Path) -> None:
    """The bill of a projected plan as a file with FOCUS columns."""
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, COLUMNS)
        writer.writeheader()
        writer.writerows(focus_rows(projection, plan))


def _lay_beside(trip: Trip) -> None:
    one, other = trip.truth, trip.again
    if not other["feasible"]:
        trip.misses.append(f"not feasible: {other['reasons']}")
        return
    _near(trip, "estate: cost", float(one["cost"]["total"]), float(other["cost"]["total"]), 0.03)
    first, second = _units(one), _units(other)
    # What never ran has left no trace.
    seen = {name for name, unit in first.items() if unit["calls"]}
    for name in sorted(seen ^ second.keys()):
        trip.misses.append(f"{name} stands in one model only")
    both = [(name, first[name], second[name]) for name in sorted(first.keys() & second.keys())]
    for what, tolerance in (("calls", 0.02), ("gb_seconds", 0.03)):
        _near(trip, f"estate: {what}", sum(a[what] for _, a, _ in both), sum(b[what] for _, _, b in both), tolerance)
    for name, a, b in both:
        # Two draws of one rate lie apart by chance: three standard errors of that are no fault of the survey.
        root = first.get(f"{name.split('-')[0]}@{name.split('@')[1]}", a)
        chance = 3 * math.sqrt(2 / max(1, min(a["calls"], root["calls"])))
        _near(trip, f"{name}: calls", a["calls"], b["calls"], 0.02 + chance)
        _near(trip, f"{name}: gb_seconds", a["gb_seconds"], b["gb_seconds"], 0.03 + 2 * chance)
        p95, there = a["wait_s"]["p95"], b["wait_s"]["p95"]
        # Where just about one call in twenty waits for a cold start, the quantile lies on a step.
        on_a_step = 0.04 < a["cold_starts"] / max(1, a["calls"]) < 0.06
        if a["calls"] > 1_000 and not on_a_step and abs(p95 - there) > max(0.1 * p95, 0.05):
            trip.misses.append(f"{name}: wait p95 {p95:.3f} s, surveyed {there:.3f} s")


def _units(plan: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {f"{f['function']}@{f['environment']}": f for f in plan["functions"]}


def _near(trip: Trip, what: str, one: float, other: float, tolerance: float) -> None:
    if abs(other - one) > tolerance * abs(one) + 1e-9:
        trip.misses.append(f"{what} {one:,.4g}, surveyed {other:,.4g} ({other / one - 1 if one else math.inf:+.2%})")


def _wiring(trip: Trip, links: bool) -> None:
    values = trip.found.values
    for name, cron in trip.made.crons.items():
        found = next(
            (v.toml.strip('"') for a, v in values.items() if a.endswith(".cron") and name in a.split(".")[1]), "none"
        )
        if found != cron:
            trip.misses.append(f"{name}: cron {cron}, surveyed {found}")
    if links:
        there, lines = ({_line(a, b) for a, b, *_ in found} for found in (edges_of(trip.found), trip.made.lines))
        there = {line for line in there if not line[0].startswith("demand ")}
        # What never ran has left no trace.
        unseen = {f["function"] for f in trip.truth["functions"]} - {f["function"] for f in trip.again["functions"]}
        unread = {source for source, target in lines if target in unseen}
        lines = {line for line in lines if not unread & set(line) and line[1] not in unseen}
        for line in sorted(lines ^ there):
            trip.misses.append(f"line {line} {'is missing' if line in lines else 'is not there'}")


def _line(source: str, target: str) -> tuple[str, str]:
    """A line of the estate; spans do not tell what a schedule is called."""
    return ("a schedule" if source.startswith("schedules.") else source), target


def held(trip: Trip) -> list[tuple[str, bool]]:
    """Of every 95 % interval a survey gave of a value that the truth has: its address, and whether it holds that."""
    truth, found = load(trip.folder / "model.toml").model, []
    for name, function in truth.functions.items():
        values = {
            key: trip.found.values.get(f"functions.{name}.{key}")
            for key in ("run", "per_item", "error_rate", "cold_start")
        }
        wanted: dict[str, Any] = {
            "run": _median(function.run),
            "per_item": function.per_item / 1e6 or None,
            "error_rate": function.error_rate or None,
            "cold_start": _median(function.cold_start),
        }
        if values["per_item"] is None and wanted["run"] is not None:
            # Where all attempts hold one event the run has its part in it.
            wanted["run"] += function.per_item / 1e6
        for key, value in values.items():
            if value is not None and value.low is not None and value.high is not None and wanted[key] is not None:
                # What is constant is known to the digit that is written.
                found.append((value.address, value.low * 0.9999 <= wanted[key] <= value.high * 1.0001))
    for demand in truth.demand.values():
        value = trip.found.values.get(f"demand.{str(demand.into).partition('.')[2]}.rate")
        if value is not None and value.low is not None and value.high is not None:
            found.append((value.address, value.low <= float(demand.rate or 0) * 3_600 <= value.high))
    return found


def _median(spread: Any) -> float | None:
    """The median of a run time or a cold start, ms; None for mixtures, whose parts have one each."""
    return None if spread is None or spread.parts else spread.scale / 1e6
