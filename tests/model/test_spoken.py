"""What people type, in the words of the file; quantities in the unit a person would use; cron lines mended."""

from __future__ import annotations

from fractions import Fraction

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.demand.cron import BadSchedule, parse_cron
from echotally.demand.cron_mended import mended
from echotally.errors import Refused
from echotally.model.json_schema import model_schema
from echotally.model.spoken import as_the_file_says, number_in, quantity
from echotally.model.units import about_size, duration_ns, memory_mb, rate_per_s, size_bytes


@pytest.mark.parametrize(
    ("typed", "parts", "said"),
    [
        ("10k", ["functions", "f", "instance_limit"], "10000"),
        ("1.5k", ["demand", "d", "monthly"], "1500"),
        ("2M", ["demand", "d", "monthly"], "2000000"),
        ("1e6", ["demand", "d", "monthly"], "1000000"),
        ("2.5e-1", ["functions", "f", "cpu_share"], "0.25"),
        ("40", ["functions", "f", "instance_limit"], "40"),
        ("5 minutes", ["functions", "f", "timeout"], "5 min"),
        ("90 secs", ["functions", "f", "timeout"], "90 s"),
        ("every 5 minutes", ["schedules", "s", "every"], "5 min"),
        ("every 5 minutes", ["demand", "d", "rate"], "12 /h"),
        ("every hour", ["demand", "d", "rate"], "1 /h"),
        ("12 per hour", ["demand", "d", "rate"], "12 /h"),
        ("3/second", ["demand", "d", "rate"], "3 /s"),
        # Words stay words, whatever they look like, and so does what is of the file already.
        ("10k", ["functions", "f", "tags", "team"], "10k"),
        ("5 minutes", ["incidents", "0", "name"], "5 minutes"),
        ("1e3", ["schedules", "s", "cron"], "1e3"),
        ("512 MB", ["functions", "f", "memory"], "512 MB"),
        ('{ median = "1 s", p95 = "2 s" }', ["functions", "f", "run"], '{ median = "1 s", p95 = "2 s" }'),
        ("heron.shared", ["functions", "f", "plan"], "heron.shared"),
        ("[1, 2]", ["demand", "d", "day_shape"], "[1, 2]"),
    ],
)
def test_what_is_typed_is_what_the_file_would_say(typed: str, parts: list[str], said: str) -> None:
    assert as_the_file_says(typed, parts) == said


@given(st.integers(1, 10_000), st.sampled_from([("second", 1), ("minute", 60), ("hour", 3_600), ("day", 86_400)]))
def test_every_so_often_is_that_rate(number: int, unit: tuple[str, int]) -> None:
    word, seconds = unit
    typed = f"every {number} {word}s"
    rate = rate_per_s(as_the_file_says(typed, ["demand", "d", "rate"]))
    assert abs(rate * number * seconds - 1) < Fraction(1, 10**9)
    assert duration_ns(quantity(typed)) == number * seconds * 10**9


@given(st.text(max_size=12))
def test_any_text_is_a_value_or_stays_as_it_is(text: str) -> None:
    assert isinstance(as_the_file_says(text, ["functions", "f", "timeout"]), str)
    number_in(text)


@pytest.mark.parametrize("read", [duration_ns, size_bytes, rate_per_s])
@pytest.mark.parametrize("zero", [0, "0"])
def test_nothing_is_nothing_in_every_unit(read, zero: object) -> None:  # type: ignore[no-untyped-def]
    assert read(zero) == 0


@pytest.mark.parametrize("read", [duration_ns, size_bytes, rate_per_s, memory_mb])
@pytest.mark.parametrize("value", [1, 0.0, True, False, None, "5", "", "00 x"])
def test_any_other_bare_value_needs_a_unit(read, value: object) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(Refused):
        read(value)


def test_editors_take_a_bare_nothing_too() -> None:
    schema = model_schema()
    part = {**schema["$defs"]["Function"]["properties"]["log_bytes"], "$defs": schema["$defs"]}
    valid = jsonschema.Draft202012Validator(part)
    assert [valid.is_valid(value) for value in (0, "0 B", "1.2 kB", 1, "12", -1)] == [
        True,
        True,
        True,
        False,
        False,
        False,
    ]


@pytest.mark.parametrize(
    ("size", "text"),
    [(0, "0 B"), (999, "999 B"), (1_200, "1.2 kB"), (165_000_000, "165 MB"), (999_999, "1 MB"), (1.5e9, "1.5 GB"), (3e12, "3,000 GB")],
)  # fmt: skip
def test_a_size_is_told_in_the_unit_a_person_would_use(size: float, text: str) -> None:
    assert about_size(size) == text


@pytest.mark.parametrize(
    ("bad", "near"),
    [
        ("61 * * * *", "59 * * * *"),
        ("60 * * * *", "0 * * * *"),
        ("0 24 * * *", "0 0 * * *"),
        ("0 8 * * MONDAY", "0 8 * * 1"),
        ("0 8 * * MONDAY-FRIDAY", "0 8 * * 1-5"),
        ("0 8 1 JANUARY *", "0 8 1 1 *"),
        ("0 22-2 * * *", "0 22-23,0-2 * * *"),
        ("0 8 * *", "0 8 * * *"),
        ("*/0 * * * *", "* * * * *"),
        ("0 0 8 * * *", "0 8 * * *"),
        ("every 8 * * *", "* 8 * * *"),
        ("0 8 0 * *", "0 8 1 * *"),
        ("0 8 * * 8", "0 8 * * 7"),
        ("", ""),
        ("* * * * * * * *", ""),
    ],
)
def test_a_line_to_paste_is_near_what_was_meant(bad: str, near: str) -> None:
    assert mended(bad, parse_cron) == near
    with pytest.raises(BadSchedule) as refused:
        parse_cron(bad)
    assert (f'such as "{near}"' in refused.value.allowed) == bool(near)


@given(st.text(alphabet="0123456789*/,-?LW# MONJAN", max_size=24))
def test_whatever_is_proposed_can_be_read(text: str) -> None:
    proposed = mended(text, parse_cron)
    if proposed:
        parse_cron(proposed)
