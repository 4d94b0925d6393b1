"""A month worked again from the log of its attempts: levels, hours, quantiles and the bill, in plain fractions."""

from __future__ import annotations

import tomllib
from collections import Counter
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.engine.play import Room, attempts, begun, finish
from echotally.engine.reading import read_out
from echotally.projection.loaded import load, placement_on
from echotally.projection.project import project
from echotally.rates.card import Price
from echotally.rates.price_walk import price_of
from tests.conftest import CARD
from tests.engine import plain_month as plain

MODEL = """
[functions.page]
memory = "512 MB"
run = { median = "80 ms", p95 = "300 ms" }
cold_start = { median = "300 ms", p95 = "500 ms" }
timeout = "450 ms"
error_rate = 0.02
instance_limit = 7
reply_bytes = "3 kB"
package = "25 MB"
[functions.post]
memory = "256 MB"
run = "120 ms"
per_item = "13 ms"
error_rate = 0.05
log_bytes = "700 B"
[functions.chart]
memory = "1 GB"
run = "2300 ms"
cpu_share = 0
[endpoints.map]
[queues.alerts]
[schedules.charts]
cron = "*/10 * * * *"
items = 3
[demand.map]
into = "endpoints.map"
rate = "6 /s"
spread = "bursty"
burst = 5
surges = [{ at = "2027-03-01T02:00", lasts = "31 d", times = 0 }]
[demand.alerts]
into = "queues.alerts"
lumps = [{ at = "2027-03-01T00:30", count = 900, over = "20 min" }]
[[triggers]]
from = "endpoints.map"
to = "page"
[[triggers]]
from = "queues.alerts"
to = "post"
batch = 4
[[triggers]]
from = "schedules.charts"
to = "chart"
"""
MEMORY_GB = {"page": Fraction(1, 2), "post": Fraction(1, 4), "chart": Fraction(1)}
#: vCPUs by memory on the card of the tests, two a GB.
VCPU = {name: 2 * gb for name, gb in MEMORY_GB.items()}
FLAT_PRICES = """
calls = { per = 1_000, unit = "0.19" }
gb_seconds = { unit = "0.0137" }
vcpu_seconds = { unit = "0.0021" }
queue_operations = { per = 10_000, unit = "0.4" }
schedule_firings = { unit = "0.001" }
gateway_requests = { per = 1_000_000, unit = "3.5" }
log_gb = { unit = "0.61" }
egress_gb = { unit = "0.09" }
storage_gb_months = { unit = "0.031" }
flat_months = { unit = "1.25" }
"""
TIERED_PRICES = """
calls = { per = 1_000, tiers = [{ up_to = 10_000, unit = "0.4" }, { up_to = 30_000, unit = "0.2" }, { unit = "0.1" }] }
gb_seconds = { volume = true, tiers = [{ up_to = 100, unit = "0.05" }, { up_to = 1_000_000, unit = "0.031" }, { unit = "0.01" }] }
gateway_requests = { tiers = [{ up_to = 40_000, unit = "0.0001" }, { unit = "0.00007" }] }
queue_operations = { unit = "0.0003" }
schedule_firings = { unit = "0.002" }
[plans.plan.allowance]
calls = 7_000
gb_seconds = 300
queue_operations = 100_000_000
schedule_firings = 4_000
"""
ROUNDING = 'rounding = { time = "10 ms", at_least = "30 ms" }\ncold_start_billed = '


class Month:
    """The same month twice: as the program measures it, and as its attempts and instance counts were logged."""

    def __init__(self, path, seed):
        loaded = load(path)
        place = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
        built = begun(loaded.model, loaded.month.arrivals, place, seed, Room(trail=200_000, diary=400_000))
        names = [u.function for u in built.units]
        self.log = []
        for chunk in attempts(built):
            for row in chunk[["unit", "items", "at", "run_at", "ended", "cold_ns", "outcome"]].tolist():
                unit, items, at, run_at, ended, cold, outcome = row
                outcome = ("succeeded", "failed", "timed_out", "throttled")[outcome]
                started = None if outcome == "throttled" else run_at
                self.log.append(plain.Attempt(names[unit], items, at, started, ended, cold, outcome))
        finish(built)
        self.trail = built.world.trail[: int(built.world.clock[0]["trail_n"])].copy()
        self.names, self.length = names, loaded.month.clock.length_ns
        self.measured = read_out(loaded.model, built)
        self.units = {u.unit.function: u for u in self.measured.units}

    def of(self, function):
        return [a for a in self.log if a.function == function]

    def instances(self, function):
        steps = [(int(s["at"]), int(s["count"])) for s in self.trail if self.names[s["unit"]] == function]
        counts = [0, *(count for _, count in steps)]
        return plain.Level(
            [(at, count - before) for (at, count), before in zip(steps, counts, strict=False)], self.length
        )

    def series(self, function, column):
        hours = self.measured.series.one(self.names.index(function), column)
        return {hour: value for hour, value in enumerate(hours.tolist()) if value}


@pytest.fixture
def month(write):
    def played(seed, bills="runs", prices=FLAT_PRICES, cold_billed=True):
        card = CARD.format(keys=ROUNDING + str(cold_billed).lower(), prices=prices)
        return Month(write(MODEL, card=card.replace('"runs"', f'"{bills}"')), seed)

    return played


SEEDS = [1, 2, 3]
FUNCTIONS = ["page", "post", "chart"]


@pytest.mark.parametrize("seed", SEEDS)
def test_attempts_are_counted_by_their_outcome(month, seed):
    found = month(seed)
    for name in FUNCTIONS:
        counted = Counter(a.outcome for a in found.of(name))
        shown = {k: n for k, n in found.units[name].attempts.items() if n and k != "total"}
        assert shown == counted
        assert found.units[name].attempts["total"] == len(found.of(name))
    # The case must be worth working: every outcome is there.
    assert set(counted := Counter(a.outcome for a in found.log)) == {"succeeded", "failed", "timed_out", "throttled"}
    assert min(counted.values()) > 20


@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("name", FUNCTIONS)
def test_concurrency_is_that_of_the_attempts_weighted_by_time(month, seed, name):
    found = month(seed)
    level, shown = plain.in_flight(found.of(name), found.length), found.units[name].concurrency
    assert shown.mean == pytest.approx(float(level.mean()), rel=1e-12)
    assert (shown.p95, shown.p99) == (level.quantile(Fraction(95, 100)), level.quantile(Fraction(99, 100)))
    assert shown.peak == max(value for _, value in level.steps)


def test_the_estates_concurrency_is_that_of_all_attempts(month):
    found = month(1)
    level, shown = plain.in_flight(found.log, found.length), found.measured.concurrency
    assert shown.mean == pytest.approx(float(level.mean()), rel=1e-12)
    assert shown.peak == max(value for _, value in level.steps)


@pytest.mark.parametrize("name", FUNCTIONS)
def test_instances_are_weighted_by_time_and_their_hours_at_the_limit_add_up(month, name):
    found = month(2)
    level, shown = found.instances(name), found.units[name]
    assert shown.instances.mean == pytest.approx(float(level.mean()), rel=1e-12)
    assert shown.instances.p95 == level.quantile(Fraction(95, 100))
    assert shown.life_ns == sum(count * ns for count, ns in level.lasting().items())
    at_limit = level.lasting()[7] if name == "page" else 0
    assert shown.at_limit_ns == at_limit
    assert name != "page" or at_limit > plain.NS


def test_each_hour_shows_its_own_peak_and_its_own_refusals(month):
    found = month(3)
    for name in FUNCTIONS:
        level = plain.in_flight(found.of(name), found.length)
        peaks = {h: level.highest(h * plain.HOUR, (h + 1) * plain.HOUR) for h in range(found.length // plain.HOUR)}
        assert found.series(name, 2) == {hour: peak for hour, peak in peaks.items() if peak}
        refused = Counter(a.at // plain.HOUR for a in found.of(name) if not a.started)
        assert found.series(name, 1) == refused
    asked = Counter(a.at // plain.HOUR for a in found.of("page"))
    assert found.series("page", 0) == asked


@pytest.mark.parametrize("seed", SEEDS)
def test_quantiles_of_latency_are_within_the_stated_error(month, seed):
    found = month(seed)
    # A request that finds room is asked and started at one instant, so its latency is the whole attempt.
    took = [a.ended - a.at for a in found.of("page") if a.started]
    shown = found.units["page"].latency
    for q, value in ((Fraction(1, 2), shown.p50), (Fraction(95, 100), shown.p95), (Fraction(99, 100), shown.p99)):
        assert value * 1e9 == pytest.approx(plain.nearest_rank(took, q), rel=0.008)
    assert shown.max * 1e9 == pytest.approx(max(took), abs=0.5)


@pytest.mark.parametrize("seed", SEEDS)
def test_quantiles_of_waits_are_within_the_stated_error(month, seed):
    found = month(seed)
    waited = [a.run_at - a.at for a in found.of("page") if a.outcome == "succeeded"]
    shown = found.units["page"].waits
    assert shown.p50 == 0 == plain.nearest_rank(waited, Fraction(1, 2))
    assert shown.max * 1e9 == pytest.approx(max(waited), abs=0.5)
    cold = [a.cold for a in found.of("page") if a.cold]
    assert len(cold) >= found.units["page"].cold_starts > 5


def quantities(found, cold_billed):
    """Every meter of rules 6.2 and 6.3 that this estate has, from its attempts."""
    started = {name: [a for a in found.of(name) if a.started] for name in FUNCTIONS}
    billed = {name: Fraction(plain.billed(calls, 10**7, 3 * 10**7, cold_billed), plain.NS) for name, calls in started.items()}  # fmt: skip
    messages = found.units["post"].events["in"]
    deletes = sum(a.outcome == "succeeded" for a in started["post"])
    # Messages never wait: readers and room are always free, so the queue is polled all month.
    polls = Fraction(found.length, 20 * plain.NS)
    replies = sum(a.outcome == "succeeded" for a in started["page"])
    return {
        "calls": Fraction(sum(map(len, started.values()))),
        "gb_seconds": sum((billed[name] * MEMORY_GB[name] for name in FUNCTIONS), Fraction(0)),
        "vcpu_seconds": sum((billed[name] * VCPU[name] for name in FUNCTIONS), Fraction(0)),
        "queue_operations": messages + len(started["post"]) + deletes + polls,
        "schedule_firings": Fraction(31 * 24 * 6),
        "gateway_requests": Fraction(len(found.of("page"))),
        "log_gb": Fraction(500 * (len(started["page"]) + len(started["chart"])) + 700 * len(started["post"]), 10**9),
        "egress_gb": Fraction(3_000 * replies, 10**9),
        "storage_gb_months": Fraction(45, 1_000),
        "flat_months": Fraction(1),
    }


@pytest.mark.parametrize("bills", ["runs", "active"])
@pytest.mark.parametrize("cold_billed", [True, False], ids=["cold-billed", "cold-free"])
@pytest.mark.parametrize("prices", [FLAT_PRICES, TIERED_PRICES], ids=["flat", "tiers-and-allowance"])
def test_the_bill_follows_from_the_attempts_alone(month, tmp_path, bills, cold_billed, prices):
    found = month(1, bills, prices, cold_billed)
    table = tomllib.loads("[plans.plan.price]" + prices)["plans"]["plan"]
    expected = plain.bill(quantities(found, cold_billed), table["price"], table.get("allowance", {}))
    shown = project(tmp_path / "model.toml", seed=1).plans[0].bill
    amounts = {line.meter: Fraction(line.amount) for line in shown.lines}
    for meter, money in expected.items():
        assert abs(amounts[meter] - money) < Fraction(1, 10**40), meter
    assert Fraction(shown.total) == plain.to_the_cent(sum(expected.values(), Fraction(0)))


def test_allocated_time_is_each_instances_life_rounded_up(month):
    found = month(2, "allocated")
    lives = {name: sum(by for at, by in _comings(found.instances(name))) for name in FUNCTIONS}
    for name in FUNCTIONS:
        exact = sum(count * ns for count, ns in found.instances(name).lasting().items())
        # Each life is rounded up by less than the unit of 10 ms; none is shorter than the minimum.
        assert exact <= found.units[name].time_billed_ns < exact + lives[name] * 10**7


def _comings(level):
    """Changes upwards of a level."""
    values = [value for _, value in level.steps]
    times = [at for at, _ in level.steps]
    pairs = zip(times[1:], values, values[1:], strict=False)
    return [(at, after - before) for at, before, after in pairs if after > before]


# -- prices ---------------------------------------------------------------------------------------------------------
units = st.decimals(min_value=0, max_value=1_000, places=9).map(lambda d: f"{d:f}")


@st.composite
def price_tables(draw):
    """A price of any form the card knows."""
    per = {"per": draw(st.integers(1, 10**9))} if draw(st.booleans()) else {}
    if draw(st.booleans()):
        return {**per, "unit": draw(units)}
    edges = sorted(draw(st.sets(st.integers(1, 10**7), min_size=1, max_size=5)))
    tiers = [{"up_to": edge, "unit": draw(units)} for edge in edges]
    volume = {"volume": True} if draw(st.booleans()) else {}
    return {**per, **volume, "tiers": [*tiers, {"unit": draw(units)}]}


@given(price_tables(), st.decimals(min_value=0, max_value=2 * 10**7, places=6))
def test_any_price_gives_what_fractions_give(table, billable):
    exact = plain.amount(table, Fraction(billable))
    # Decimals of the default 28 digits here, of 60 in a bill.
    assert abs(Fraction(price_of(Price.model_validate(table), billable)) - exact) <= exact / 10**25
