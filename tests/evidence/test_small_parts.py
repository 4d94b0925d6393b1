"""Small parts of what measured data goes through, each against a formula, a library or by hand."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from echotally.errors import BadInput
from echotally.evidence.fit.estimates import log_normal, run_parts, share
from echotally.evidence.fit.rhythm import STRETCH_S, rhythm
from echotally.evidence.logs.columns import map_columns
from echotally.evidence.logs.reading import open_log
from echotally.evidence.telemetry.firing_check import _compared, _Pair
from echotally.evidence.telemetry.reading import _whole


@pytest.mark.parametrize(
    ("headings", "wanted"),
    [
        (["Timestamp", "Duration_ms", "Status"], {"time": "Timestamp", "run": "Duration_ms", "outcome": "Status"}),
        (["startTime", "runTimeS", "memoryMb", "maxMemoryUsedMb"], {"time": "startTime", "run": "runTimeS", "memory": "memoryMb", "memory_used": "maxMemoryUsedMb"}),
        (["ts", "took", "init (ms)", "request-id"], {"time": "ts", "run": "took", "cold_start": "init (ms)", "id": "request-id"}),
        (["date", "time", "run"], {"time": "time", "run": "run"}),
        (["time", "elapsed", "duration"], {"time": "time", "run": "duration"}),
    ],
)  # fmt: skip
def test_columns_are_guessed_from_their_headings(headings: list[str], wanted: dict[str, str]) -> None:
    assert {ours: found.theirs for ours, found in map_columns(headings, [], "log.csv").items()} == wanted


@pytest.mark.parametrize(
    ("told", "said"),
    [
        ([("speed", "a")], "is not a column we read"),
        ([("run", "b")], "has no such column"),
        ([], "has no column known as time"),
    ],
)
def test_what_cannot_be_mapped_is_said(told: list[tuple[str, str]], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        map_columns(["a"], told, "log.csv")


@pytest.mark.parametrize(("hits", "of"), [(0, 10), (3, 10), (10, 10), (7, 5_000)])
def test_shares_have_wilsons_interval(hits: int, of: int) -> None:
    found, truth = share(hits, of), stats.binomtest(hits, of).proportion_ci(method="wilson")
    assert (found.value, found.low, found.high) == pytest.approx((hits / of, truth.low, truth.high), abs=1e-12)


def test_the_distance_is_that_of_kolmogorov_and_smirnov() -> None:
    times = np.random.default_rng(1).lognormal(3, 0.4, 500)
    logs = np.log(times)
    found = log_normal(500, logs.mean(), logs.std(ddof=1), times)
    truth = stats.kstest(logs, "norm", args=(logs.mean(), logs.std(ddof=1))).statistic
    assert found.distance == pytest.approx(truth, abs=1e-12)
    half = 1.959963984540054 * logs.std(ddof=1) / math.sqrt(500)
    assert found.median.high == pytest.approx(math.exp(logs.mean() + half))


def test_run_time_is_split_exactly_where_there_is_no_scatter() -> None:
    events, slow = (
        np.array(x, dtype=float) for x in zip(*[(n, s) for n in (1, 2, 5) for s in (1.0, 0.5)], strict=True)
    )
    mean = (100 + 8 * events) * (0.3 + 0.7 * slow)
    parts = run_parts(events, slow, np.full(6, 50), mean, mean**2)
    assert parts.per_item is not None and parts.cpu_share is not None
    assert (parts.base.value, parts.per_item.value, parts.cpu_share.value) == pytest.approx((100, 8, 0.7), rel=1e-6)


MONDAY = int(datetime(2027, 2, 1, tzinfo=UTC).timestamp())


def _counts(days: float, of_hour) -> dict[int, float]:  # type: ignore[no-untyped-def]
    first = MONDAY // STRETCH_S
    return {first + n: of_hour((n // 4) % 24) / 4 for n in range(int(days * 96))}


def test_a_log_that_ends_at_noon_does_not_raise_the_rate() -> None:
    # Twice as busy from noon on: 10 an hour before, 30 after; seven and a half days seen.
    counts = _counts(7.5, lambda h: 10 if h < 12 else 30)
    found = rhythm(counts, MONDAY, MONDAY + 7.5 * 86_400, ZoneInfo("UTC"))
    assert found.rate.value * 3_600 == pytest.approx(20, rel=0.01)
    assert found.day is not None
    assert [round(w.value, 2) for w in found.day] == [0.5] * 12 + [1.5] * 12


def test_an_even_log_has_no_shape_and_a_short_one_no_week() -> None:
    found = rhythm(_counts(14, lambda h: 40), MONDAY, MONDAY + 14 * 86_400, ZoneInfo("Europe/Dublin"))
    assert (found.day, found.week) == (None, None)
    # Forty in every stretch scatter not at all.
    assert 0 < found.dispersion < 0.05
    assert rhythm(_counts(3, lambda h: 40), MONDAY, MONDAY + 3 * 86_400, ZoneInfo("UTC")).week is None


def test_clumped_counts_widen_the_interval() -> None:
    first, chance = MONDAY // STRETCH_S, np.random.default_rng(3)
    bursts = {first + n: float(20 * chance.poisson(0.5)) for n in range(14 * 96)}
    found = rhythm(bursts, MONDAY, MONDAY + 14 * 86_400, ZoneInfo("UTC"))
    # Bursts of a fixed size s scatter s times as much as Poisson's.
    assert found.dispersion == pytest.approx(20, rel=0.15)


@given(st.lists(st.floats(0, 1_000), min_size=1, max_size=60))
def test_whole_counts_follow_the_running_sum_within_half_an_event(counts: list[float]) -> None:
    given_, exact = 0, 0.0
    for (_, whole), count in zip(_whole(list(enumerate(counts))), counts, strict=True):
        exact += count
        given_ += whole
        assert whole >= 0 and abs(given_ - exact) <= 0.5 + 1e-6


@pytest.mark.parametrize(
    ("seen", "on_time", "late", "missed", "extra"),
    [
        ([0, 100, 200], 3, 0, 0, 0),
        ([0, 200], 2, 0, 1, 0),
        ([0, 130, 200], 2, 1, 0, 0),
        ([0, 1, 100, 150, 200], 3, 0, 0, 2),
        ([-1.5, 99, 199], 3, 0, 0, 0),
        ([], 0, 0, 3, 0),
    ],
    ids=["all", "one missed", "one late", "repeats", "a clock ahead", "nothing ran"],
)
def test_starts_belong_to_the_firing_they_follow(
    seen: list[float], on_time: int, late: int, missed: int, extra: int
) -> None:
    found = _compared(_Pair("s", "f", [0.0, 100.0, 200.0], seen), 10.0, (), ())
    assert (found.on_time, len(found.late), len(found.missed), len(found.extra)) == (on_time, late, missed, extra)


@pytest.mark.parametrize("hours", [-9, -1, 1, 5, 14])
def test_a_zone_read_wrongly_shows_as_whole_hours(hours: int) -> None:
    expected = [n * 86_400.0 for n in range(20)]
    seen = sorted(at + hours * 3_600 + 2 for at in expected)
    found = _compared(_Pair("s", "f", expected, seen), 60.0, (), ())
    assert (found.shift_h, found.shifted_share) == (hours, 1.0)


@pytest.mark.parametrize(
    ("written", "meant"),
    [
        ("2027-03-01T00:30:00Z", "2027-03-01T00:30:00+00:00"),
        ("2027-03-01 00:30:00.250", "2027-03-01T00:30:00.25+00:00"),
        ("  2027-03-01T00:30  ", "2027-03-01T00:30:00+00:00"),
        ("2027-03-01", "2027-03-01T00:00:00+00:00"),
        ("2027-03-01T00:30:00+05:30", "2027-02-28T19:00:00+00:00"),
        ("2027-03-01 00:30:00-0330", "2027-03-01T04:00:00+00:00"),
        ("2027-03-01 00:30:00 UTC", "2027-03-01T00:30:00+00:00"),
        ("1803861000", "2027-03-01T00:30:00+00:00"),
        (" 1803861000250 ", "2027-03-01T00:30:00.25+00:00"),
        ("1803861000250000", "2027-03-01T00:30:00.25+00:00"),
        ("1803861000250000000", "2027-03-01T00:30:00.25+00:00"),
    ],
)
def test_a_time_is_read_in_whatever_form_beside_others(written: str, meant: str, tmp_path: Path) -> None:
    """Whether or not the zone given is UTC, and whatever the form of the rows around it."""
    log = tmp_path / "log.csv"
    log.write_text(f"time,function,run_ms\n2027-03-05T00:00:00Z,gauge,10\n{written},gauge,11\nnever,gauge,12\n")
    for zone in ("UTC", "Etc/UTC", "Africa/Abidjan"):
        with open_log([log], timezone=zone) as read:
            found = dict(read.query("SELECT run_ms, t FROM runs"))
            assert found[11] == pytest.approx(datetime.fromisoformat(meant).timestamp(), abs=1e-6)
            assert found[12] is None and any("readable time" in trouble.what for trouble in read.troubles)
