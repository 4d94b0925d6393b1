"""Units and spreads: quantities in and out, exactly, and distributions against SciPy's."""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from echotally.errors import Refused
from echotally.findings.changes import nice_duration
from echotally.model import units
from echotally.model.spread import EXPONENTIAL, LOGNORMAL, SAMPLES, Spread, constant
from echotally.rates.card import MemorySizes, Plan

MS, S = 10**6, 10**9


@pytest.mark.parametrize(
    ("text", "ns"),
    [
        ("0 s", 0), ("1 ms", MS), ("0.5 ms", MS // 2), ("120 ms", 120 * MS), ("2 min", 120 * S), ("1.5 h", 5_400 * S),
        ("1 d", 86_400 * S), ("1_000 s", 1_000 * S), (" 7 min ", 420 * S), ("36525 d", 36_525 * 86_400 * S),
    ],
)  # fmt: skip
def test_durations_are_read_exactly(text, ns):
    assert units.duration_ns(text) == ns


@pytest.mark.parametrize(
    "found", ["30", 30, 1.5, True, None, "30 seconds", "-1 s", "1e3 s", "s", "", "1 s 2 ms", "36526 d", "5 MB"]
)
def test_what_is_no_duration_is_refused_with_what_is_allowed(found):
    with pytest.raises(Refused) as refused:
        units.duration_ns(found)
    assert refused.value.message and refused.value.allowed


@pytest.mark.parametrize(
    ("read", "text", "value"),
    [
        (units.memory_mb, "512 MB", 512), (units.memory_mb, "1.5 GB", 1_536), (units.memory_mb, "16 GB", 16_384),
        (units.size_bytes, "0 B", 0), (units.size_bytes, "1.2 kB", 1_200), (units.size_bytes, "2 MB", 2_000_000),
        (units.size_bytes, "1 GB", 10**9), (units.rate_per_s, "55 /s", Fraction(55)), (units.rate_per_s, "90 /min", Fraction(3, 2)),
        (units.rate_per_s, "1 /h", Fraction(1, 3_600)), (units.rate_per_s, "1 /d", Fraction(1, 86_400)),
        (units.money, "0.0000166", Decimal("0.0000166")), (units.money, 3, Decimal(3)), (units.money, "1_000.50", Decimal("1000.50")),
    ],
)  # fmt: skip
def test_other_quantities_are_read_exactly(read, text, value):
    assert read(text) == value


@pytest.mark.parametrize(
    ("read", "found"),
    [
        (units.memory_mb, "0 MB"), (units.memory_mb, "0.3 MB"), (units.memory_mb, "512 kB"), (units.memory_mb, 512),
        (units.size_bytes, "5 TB"), (units.rate_per_s, "5 per s"), (units.rate_per_s, "5"), (units.money, 0.2), (units.money, "-1"),
        (units.money, "1e3"), (units.money, True), (units.money, "NaN"), (units.money, "1" * 16),
    ],
)  # fmt: skip
def test_other_quantities_without_their_unit_are_refused(read, found):
    with pytest.raises(Refused) as refused:
        read(found)
    assert refused.value.message and refused.value.allowed


@given(st.integers(0, 3_000 * 86_400_000))
def test_a_duration_written_and_read_again_is_the_same(ms):
    assert units.duration_ns(units.duration_text(ms * MS)) == ms * MS


@given(st.integers(1, 10**7))
def test_a_memory_size_written_and_read_again_is_the_same(mb):
    assert units.memory_mb(units.memory_text(mb)) == mb


@given(st.integers(1, 300 * 86_400 * S))
def test_a_nice_duration_is_never_shorter_than_what_it_stands_for(ns):
    assert ns <= units.duration_ns(nice_duration(ns)) <= 3 * ns + 10 * MS


LOG = Spread(LOGNORMAL, 120.0, 0.7)
EXP = Spread(EXPONENTIAL, 50.0)


@pytest.mark.parametrize(
    ("spread", "theirs"),
    [(LOG, stats.lognorm(s=0.7, scale=120.0)), (EXP, stats.expon(scale=50.0))],
    ids=["log-normal", "exponential"],
)
def test_spreads_agree_with_scipy(spread, theirs):
    assert spread.mean == pytest.approx(theirs.mean())
    for share in (0.01, 0.5, 0.95, 0.999):
        assert spread.quantile(share) == pytest.approx(theirs.ppf(share))
    for limit in (1.0, 60.0, 400.0):
        assert spread.share_above(limit) == pytest.approx(theirs.sf(limit))


def test_samples_have_nearest_rank_quantiles_and_their_own_mean():
    spread = Spread(SAMPLES, 0.0, samples=(5.0, 1.0, 3.0, 2.0, 4.0))
    assert [spread.quantile(q) for q in (0.01, 0.2, 0.21, 0.5, 0.95)] == [1, 1, 2, 3, 5]
    assert (spread.mean, spread.share_above(3), spread.share_above(5)) == (3, 0.4, 0)


def test_a_constant_is_never_above_itself():
    assert (constant(7).mean, constant(7).quantile(0.99), constant(7).share_above(7), constant(7).share_above(6)) == (
        7,
        7,
        0,
        1,
    )


sizes = st.one_of(
    st.lists(st.integers(64, 4_096), min_size=1, max_size=6).map(lambda mb: {"choices": [f"{n} MB" for n in mb]}),
    st.tuples(st.integers(64, 512), st.integers(512, 4_096), st.integers(1, 256)).map(
        lambda t: {"from": f"{t[0]} MB", "to": f"{t[1]} MB", "step": f"{t[2]} MB"}
    ),
)


@given(sizes, st.integers(1, 5_000))
def test_memory_is_rounded_up_to_the_smallest_size_that_holds_it(sold, mb):
    memory = MemorySizes.model_validate(sold)
    found = memory.round_up(mb)
    if found is None:
        assert mb > memory.largest_mb
    else:
        assert mb <= found <= memory.largest_mb
        assert memory.round_up(found) == found
        # Nothing sold lies between: one MB less than the size found is rounded to it, unless that is already too little.
        assert found == mb or memory.round_up(found - 1) == found or memory.round_up(found - 1) < mb


@pytest.mark.parametrize(("mb", "limit", "expected"), [(1_024, None, 0.5), (4_096, None, 2.0), (4_096, 1.5, 1.5)])
def test_vcpus_follow_memory_up_to_the_limit(mb, limit, expected):
    keys = {
        "bills": "runs",
        "memory": {"choices": ["1 GB", "4 GB"]},
        "vcpu_per_gb": 0.5,
        "price": {"calls": {"unit": "1"}},
    }
    plan = Plan.model_validate(keys | ({"vcpu_limit": limit} if limit else {}))
    assert plan.vcpu(mb) == expected
