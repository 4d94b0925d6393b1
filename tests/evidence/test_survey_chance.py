"""What a survey takes for a rule, and what it leaves to chance: on numbers drawn by the definition, over many seeds."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from numpy.typing import NDArray

from echotally.evidence.fit.rhythm import STRETCH_S, hours_of
from echotally.evidence.survey.coincidence import Ends, _explaining, _hits
from echotally.evidence.survey.regimes import changes_of, troubles_of
from echotally.evidence.survey.survey import survey
from echotally.evidence.survey.tables import Counts, Sampled, Tables
from echotally.evidence.survey.zones import zone_of
from echotally.output.evidence.log_files import write_log
from echotally.projection.loaded import load
from tests.evidence.made_estates import CARD, PRICES

#: 20 February 2027, five weeks before clocks change in Europe, in stretches of a quarter of an hour.
FIRST = int(datetime(2027, 2, 20, tzinfo=UTC).timestamp()) // STRETCH_S
DAYS = 56


def _counts(
    events: NDArray[np.float64], bad: NDArray[np.float64] | None = None, run_ms: float | NDArray[np.float64] = 100.0
) -> Counts:
    stretch = FIRST + np.arange(len(events))
    failed = np.zeros(len(events)) if bad is None else bad
    good = events - failed
    return Counts(stretch, events, events, good, failed, 0 * events, good * run_ms, 0 * events)


def _sample() -> Sampled:
    none = np.zeros(0)
    return Sampled(none, none, none, none > 0, none, none, none, none, none, none > 0, none > 0, 1)


@pytest.mark.parametrize("seed", range(12))
def test_a_steady_rate_with_its_weekdays_never_changed(seed: int) -> None:
    chance = np.random.default_rng(seed)
    weekday = (np.arange(DAYS * 96) // 96) % 7
    events = chance.poisson(np.where(weekday < 5, 3.0, 1.0)).astype(float)
    assert changes_of("f", _counts(events), _sample(), ZoneInfo("UTC"), {}) == []


@pytest.mark.parametrize("seed", range(6))
def test_a_new_client_is_found_on_its_day(seed: int) -> None:
    chance = np.random.default_rng(seed)
    events = chance.poisson(np.where(np.arange(DAYS * 96) < 30 * 96, 3.0, 5.0)).astype(float)
    (change,) = changes_of("f", _counts(events), _sample(), ZoneInfo("UTC"), {})
    assert change.what == "events a day" and abs((change.at - datetime(2027, 3, 22, tzinfo=UTC)).days) <= 1
    assert change.after / change.before == pytest.approx(5 / 3, rel=0.05)


def test_growth_is_no_step() -> None:
    events = np.random.default_rng(1).poisson(3 + 3 * np.arange(DAYS * 96) / (DAYS * 96)).astype(float)
    assert changes_of("f", _counts(events), _sample(), ZoneInfo("UTC"), {}) == []


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("tries", [1, 4], ids=["single failures", "failures that come in fours"])
def test_failures_here_and_there_are_no_trouble(seed: int, tries: int) -> None:
    """One in fifty fails; or one message in two hundred, which is tried four times within the quarter of an hour."""
    chance = np.random.default_rng(seed)
    events = chance.poisson(10, DAYS * 96).astype(float)
    bad = (chance.binomial(events.astype(int), 0.02 / tries) * tries).astype(float)
    assert troubles_of(("f", "live"), _counts(np.maximum(events, bad), bad)) == []


@pytest.mark.parametrize(("from_hour", "hours", "share"), [(100, 2, 0.9), (500, 6, 0.4), (1_000, 1, 1.0)])
def test_a_stretch_of_trouble_is_found_to_the_quarter_of_an_hour(from_hour: int, hours: int, share: float) -> None:
    chance = np.random.default_rng(from_hour)
    events = chance.poisson(20, DAYS * 96).astype(float)
    bad = chance.binomial(events.astype(int), 0.01).astype(float)
    inside = slice(from_hour * 4, (from_hour + hours) * 4)
    bad[inside] = chance.binomial(events[inside].astype(int), share)
    (trouble,) = troubles_of(("f", "live"), _counts(events, bad))
    begun = (FIRST + from_hour * 4) * STRETCH_S
    assert abs(trouble.at.timestamp() - begun) <= STRETCH_S and abs(trouble.lasts_s - hours * 3_600) <= 2 * STRETCH_S
    assert trouble.share == pytest.approx(share, abs=0.1) and trouble.usual == pytest.approx(0.01, abs=0.005)


# -- zones --------------------------------------------------------------------------------------------------------
def _lived(zone: str, seed: int) -> Tables:
    stretch = FIRST + np.arange(DAYS * 96)
    hour, weekday = hours_of(stretch, ZoneInfo(zone))
    rate = np.where((hour >= 7) & (hour < 19), 4.0, 0.4) * np.where(weekday < 5, 1.0, 0.5)
    events = np.random.default_rng(seed).poisson(rate).astype(float)
    return cast(Tables, SimpleNamespace(counts={("f", "live"): _counts(events)}))


@pytest.mark.parametrize("zone", ["UTC", "Europe/Berlin", "America/New_York", "Asia/Tokyo"])
def test_the_clock_an_estate_lives_by_is_told_where_clocks_change(zone: str) -> None:
    first, last = float(FIRST * STRETCH_S), float((FIRST + DAYS * 96) * STRETCH_S - 1)
    found = zone_of(_lived(zone, 4), first, last, ("UTC",))
    if zone in ("UTC", "Asia/Tokyo"):
        # Where no clock changes one zone is as good as another.
        assert found.zone is None
    else:
        assert zone in (found.zone, *found.others)
        assert "Asia/Tokyo" not in found.others and found.apart == ()


# -- lines from times ---------------------------------------------------------------------------------------------
def _poisson(seed: int, rate: float, over_s: float) -> NDArray[np.float64]:
    chance = np.random.default_rng(seed)
    return np.sort(chance.uniform(0, over_s, chance.poisson(rate * over_s)))


def _ends(of: dict[str, NDArray[np.float64]]) -> Ends:
    at = np.concatenate(list(of.values()))
    who = np.repeat(np.arange(len(of), dtype=np.int32), [len(each) for each in of.values()])
    order = np.argsort(at, kind="stable")
    return Ends(list(of), at[order], who[order])


@pytest.mark.parametrize("soon", [0.02, 3.0])
@pytest.mark.parametrize("seed", range(4))
def test_functions_worth_looking_at_are_all_that_explain_enough(seed: int, soon: float) -> None:
    rates = np.random.default_rng(seed).uniform(0.0005, 1, 40)
    of = {f"f{n:02}": _poisson(1_000 * seed + n, rate, 20_000) for n, rate in enumerate(rates)}
    starts = np.sort(np.concatenate([_poisson(seed, 0.1, 20_000), of["f07"][::3] + soon / 2]))
    ends = _ends(of)
    shares = {name: float(_hits(starts, at, soon).mean()) for name, at in of.items()}
    assert {ends.names[who] for who in ends.often_near(starts, soon)} == {
        n for n, share in shares.items() if share >= 0.036
    }
    assert all(np.array_equal(ends.of(who), of[name]) for who, name in enumerate(ends.names))


@pytest.mark.parametrize("seed", range(8))
def test_starts_that_merely_fall_near_ends_make_no_line(seed: int) -> None:
    starts, ends = _poisson(seed, 0.05, 40_000), _poisson(100 + seed, 0.5, 40_000)
    for soon in (0.02, 0.2, 1.0):
        assert sum(line.share for line in _explaining("b", starts, _ends({"a": ends}), soon)) < 0.9


@pytest.mark.parametrize("seed", range(4))
def test_starts_that_follow_two_functions_ends_are_shared_out(seed: int) -> None:
    one, two, other = (_poisson(seed + k, rate, 40_000) for k, rate in ((0, 0.03), (50, 0.01), (90, 0.2)))
    starts = np.sort(np.concatenate([one, two])) + 0.005
    lines = _explaining("b", starts, _ends({"one": one, "two": two, "other": other}), 0.02)
    shares = {line.producer: line.share for line in lines}
    assert set(shares) == {"one", "two"}
    assert shares["one"] == pytest.approx(len(one) / len(starts), abs=0.02)
    assert all(line.chance < 0.02 for line in lines)


# -- messages that can be followed --------------------------------------------------------------------------------
@pytest.mark.parametrize(("poison", "errors"), [(0.01, 0.002), (0.0, 0.02)], ids=["poison", "chance"])
def test_poison_is_told_from_chance_by_what_happens_when_it_is_tried_again(
    poison: float, errors: float, tmp_path: Path
) -> None:
    prices = 'gb_seconds = { unit = "0.00001" }\n' + "\n".join(f"{meter} = {price}" for meter, price in PRICES.items())
    (tmp_path / "card.toml").write_text(
        CARD.format(bills="runs", vcpu=1, keep=5, cold="true", step=1, poll=20, prices=prices, free=0)
    )
    (tmp_path / "model.toml").write_text(
        'schema = "echotally-model/1"\n[estate]\nname = "p"\nmonth = "2027-02"\ntimezone = "UTC"\nrate_cards = ["card.toml"]\n'
        f'[functions.a]\nmemory = "256 MB"\nrun = "100 ms"\npoison_rate = {poison}\nerror_rate = {errors}\n'
        '[queues.q]\ntries = 4\ndead_letter = "queues.dead"\n[queues.dead]\n[demand.d]\ninto = "queues.q"\nrate = "30 /h"\n'
        '[[triggers]]\nfrom = "queues.q"\nto = "a"\n'
    )
    write_log(load(tmp_path / "model.toml"), "osprey.main", None, tmp_path / "log.otlp.json")
    found = survey([tmp_path / "log.otlp.json"], hold_back_s=0)
    values: dict[str, Any] = {key: found.values.get(f"functions.a.{key}") for key in ("poison_rate", "error_rate")}
    for key, truth in (("poison_rate", poison), ("error_rate", errors)):
        assert (values[key] is not None) == (truth > 0)
        if truth:
            assert values[key].number == pytest.approx(truth, rel=0.25)
    rate = found.values["demand.q.rate"]
    assert rate.low is not None and rate.high is not None and rate.low <= 30 <= rate.high
    assert found.values["queues.q.visibility"].toml == '"30 s"' and found.draft.troubles == []
    assert "queues.q.tries" not in found.values or found.values["queues.q.tries"].toml == "4"
