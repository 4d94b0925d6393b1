"""Values written out and scaled."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.model.spread import LOGNORMAL, SAMPLES, Spread, constant, scaled
from echotally.model.units import rate_per_s, rate_text


@given(st.integers(1, 10**6), st.sampled_from(["/s", "/min", "/h", "/d"]))
def test_a_rate_written_out_reads_back(number: int, unit: str) -> None:
    rate = rate_per_s(f"{number} {unit}")
    assert float(rate_per_s(rate_text(rate)) / rate) == pytest.approx(1, rel=1e-9)


@pytest.mark.parametrize(("rate", "text"), [(Fraction(1, 150), "24 /h"), (Fraction(55), "55 /s"), (Fraction(1, 86_400 * 2), "0.5 /d"), (Fraction(1, 60), "1 /min")])  # fmt: skip
def test_rates_are_written_as_people_write_them(rate: Fraction, text: str) -> None:
    assert rate_text(rate) == text


@pytest.mark.parametrize(
    "spread", [constant(5), Spread(LOGNORMAL, 7, 0.5), Spread(SAMPLES, 0, samples=(1.0, 2.0, 9.0))]
)
def test_a_scaled_spread_has_scaled_quantiles_and_mean(spread: Spread) -> None:
    larger = scaled(spread, 3)
    assert larger.mean == pytest.approx(3 * spread.mean)
    assert larger.quantile(0.95) == pytest.approx(3 * spread.quantile(0.95))
