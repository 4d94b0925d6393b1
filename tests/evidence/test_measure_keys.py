"""From rows to keys: rows made from known values give them back, and intervals hold as often as they say."""

from __future__ import annotations

import numpy as np
import pytest
from msgspec.structs import replace

from echotally.evidence.fit.estimates import Estimate
from echotally.evidence.measure.keys import Keys, keys_of
from echotally.evidence.measure.machine import Machine
from echotally.evidence.measure.pasting import propose
from echotally.evidence.measure.rows import Run, Tried
from echotally.model.units import duration_ns

#: A machine on which starting and asking takes no time, so that only chance is in the intervals.
STILL = Machine(4.0, "made up", "made up", 0.0, 0.0, 0.0)


def run(took_ms: float, events: int = 1, payload: int = 100, **more) -> Run:
    """A warm run; half of it is CPU work."""
    return replace(Run(1, "warm", took_ms / 1e3, took_ms / 2e3, 60 << 20, 40, 12.0, events, payload), **more)


def tried(runs: list[Run], **more) -> Tried:
    numbered = tuple(replace(each, number=n) for n, each in enumerate(runs, 1))
    return replace(Tried("made up", "serve", STILL, numbered), **more)


def value(found: Estimate | None) -> float:
    assert found is not None
    return found.value


@pytest.mark.parametrize("base", [1.0, 25.0, 4_000.0])
@pytest.mark.parametrize("item", [0.01, 2.0, 300.0])
def test_a_straight_line_is_given_back(base: float, item: float) -> None:
    keys = keys_of(tried([run(base + item * n, n) for n in (1, 10, 50) for _ in range(4)]))
    assert value(keys.per_item) == pytest.approx(item, rel=1e-6, abs=1e-9) and keys.per_mb is None
    assert keys.run.median.value == pytest.approx(base, rel=1e-6) and keys.run.kind == "constant"


def test_what_a_megabyte_adds_is_told_from_what_an_event_adds() -> None:
    runs = [
        run(10 + 3 * n + 40 * size / 1e6, n, size)
        for n in (1, 4)
        for size in (1_000, 500_000, 2_000_000)
        for _ in range(2)
    ]
    keys = keys_of(tried(runs))
    assert value(keys.per_item) == pytest.approx(3) and value(keys.per_mb) == pytest.approx(40)
    assert keys.run.median.value == pytest.approx(10, rel=1e-3)


def test_sizes_that_follow_from_the_number_of_events_tell_nothing() -> None:
    keys = keys_of(tried([run(5 + 2 * n, n, 1_000 * n) for n in (1, 5, 20) for _ in range(3)]))
    assert keys.per_mb is None and value(keys.per_item) == pytest.approx(2)


def test_intervals_hold_the_truth_as_often_as_they_say() -> None:
    chance, held = np.random.default_rng(11), {"run": 0, "per_item": 0, "cpu_share": 0}
    tries = 300
    for _ in range(tries):
        runs = []
        for n in (1, 10, 40):
            for _ in range(12):
                took = (20 + 1.5 * n) * chance.lognormal(0, 0.08)
                runs.append(run(took, n, cpu_s=took / 1e3 * chance.normal(0.4, 0.03)))
        keys = keys_of(tried(runs))
        # The median of base runs: the log-normal's own, whose mean is a little more.
        held["run"] += keys.run.median.holds(20 + 1.5 * (np.exp(0.08**2 / 2) - 1))
        held["per_item"] += keys.per_item is not None and keys.per_item.holds(1.5 * np.exp(0.08**2 / 2))
        held["cpu_share"] += keys.cpu_share is not None and keys.cpu_share.holds(0.4)
    assert all(n >= 0.92 * tries for n in held.values()), held


@pytest.mark.parametrize(
    ("cpus", "most", "threads", "share"),
    [
        (0.5, None, 1, 0.5),  # one thread, half of the time
        (1.0, 1.02, 1, 1.0),  # a little of the system's own beside it is no second thread
        (1.9, 1.98, 2, 0.95),
        (0.8, 3.9, 4, 0.2),  # four at once in a fifth of the time
        (0.0, 0.0, 1, 0.0),
        (0.8, 5.2, 4, 0.2),  # no more than there are: a quota used up twice in one window
        (0.8, 9.5, 1, 0.8),  # what no machine of four can do: a clock read late
    ],
)  # fmt: skip
def test_threads_are_the_most_in_use_and_the_share_is_of_them(cpus, most, threads, share) -> None:
    keys = keys_of(tried([run(50, cpu_s=0.05 * cpus) for _ in range(10)], most_cpus=most))
    assert keys.threads == threads and value(keys.cpu_share) == pytest.approx(share)
    assert keys.measured_vcpu == threads
    assert any("too busy to tell" in note for note in keys.notes) == ((most or 0) > 8)
    if threads == 4:
        assert any("all 4 vCPUs" in note for note in keys.notes)


def test_a_cold_start_is_less_a_warm_run_and_scales_with_the_processor() -> None:
    cold = [replace(run(310), kind="cold") for _ in range(5)]
    warm = [run(10) for _ in range(20)]
    keys, slower = (keys_of(tried([*cold, *warm]), factor) for factor in (1.0, 0.5))
    assert keys.cold_start is not None and keys.cold_start.median.value == pytest.approx(300)
    # Half of a run is work, on half as fast a processor: one and a half times as long.
    assert slower.run.median.value == pytest.approx(15)
    assert slower.cold_start is not None and slower.cold_start.median.value == pytest.approx(1.5 * 310 - 15)


def test_without_cpu_times_nothing_is_said_of_them() -> None:
    keys = keys_of(tried([run(10, cpu_s=None, memory_bytes=None) for _ in range(4)], how="url"))
    assert (keys.cpu_share, keys.threads, keys.memory_used, keys.log_bytes) == (None, None, None, None)
    assert not any(key.split(".")[-1] in ("cpu_share", "threads", "memory_used") for key, _ in propose(keys, "f").sets)


def test_failures_are_a_share_and_leave_the_times_alone() -> None:
    failed = [run(9_000, outcome="timeout"), run(1, outcome="error", exit=3)]
    keys = keys_of(tried([*(run(10) for _ in range(8)), *failed]))
    assert value(keys.error_rate) == pytest.approx(0.2) and keys.run.median.value == pytest.approx(10)
    assert keys_of(tried([run(10) for _ in range(4)])).error_rate is None


def test_a_shares_that_differ_by_batch_are_said() -> None:
    few, many = [run(10, 1, cpu_s=0.001)] * 4, [run(60, 50, cpu_s=0.055)] * 4
    assert any("10% of a run of 1 and 92% of one of 50" in note for note in keys_of(tried([*few, *many])).notes)


def shapeless() -> Keys:
    """Times of two kinds, which no log-normal is like."""
    return keys_of(tried([run(each) for each in [10.0] * 40 + [90.0] * 40]))


def test_times_that_are_no_log_normal_are_kept_only_where_they_are_written() -> None:
    keys = shapeless()
    assert keys.run.kind == "samples"
    shown, kept = propose(keys, "f"), propose(keys, "f", keep_samples=True)
    assert not shown.files and "median and p95 stand for them" in shown.notes[0]
    ((name, text),) = kept.files
    assert name == "f-run.csv" and text.startswith("ms\n") and len(text.splitlines()) == 81
    assert dict(kept.sets)["functions.f.run"] == '{ samples = "f-run.csv" }' and not kept.notes


def test_values_are_written_with_their_units() -> None:
    sets = dict(propose(keys_of(tried([run(12.5) for _ in range(6)])), "f", 256).sets)
    assert duration_ns(sets["functions.f.run"].strip('"')) == 12_500_000
    assert sets["functions.f.memory"] == '"256 MB"' and sets["functions.f.memory_used"] == '"60 MB"'
    assert (sets["functions.f.reply_bytes"], sets["functions.f.log_bytes"]) == ('"40 B"', '"12 B"')
