"""Rules worked out by days against the library that walks them step by step."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from itertools import islice
from random import Random
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from dateutil.rrule import rrulestr

from echotally.demand.clock import month_clock
from echotally.demand.cron import BadSchedule, day_firings, last_firing, parse_cron
from echotally.demand.daily_rules import DailyRule, local_s
from echotally.demand.local_day import all_instants, day_s, first_instants, instant, plain_midnight_s
from echotally.demand.preview import year_count
from echotally.demand.recurring import daily_rule, month_recurrences_ns
from echotally.demand.schedules import month_firings_ns
from echotally.model.estate import Schedule
from tests.conftest import rest_by_night

#: Values that every year has: the library walks a rule that never fires to the year 9999.
VALUES = {
    "BYMONTH": range(1, 13),
    "BYMONTHDAY": [*range(1, 29), *range(-28, 0)],
    "BYYEARDAY": [*range(1, 366), *range(-365, 0)],
    "BYDAY": ("MO", "TU", "WE", "TH", "FR", "SA", "SU"),
    "BYHOUR": range(24),
    "BYMINUTE": range(60),
    "BYSECOND": range(60),
}
STEPS = {"SECONDLY": (900, 9_000), "MINUTELY": (15, 3_000), "HOURLY": (1, 60)}
DAYS, TIMES = ("BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYDAY"), ("BYHOUR", "BYMINUTE", "BYSECOND")


def random_rule(random: Random) -> str:
    """A rule with at most one part of days, so that there are such days, and up to two of times."""
    freq = random.choice(("SECONDLY", "MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"))
    names = random.sample(DAYS, random.randint(0, 1)) + random.sample(TIMES, random.randint(0, 2))
    # Steps of days may never meet a named day.
    steps = STEPS.get(freq, (1, 1 if set(names) & set(DAYS) else 3))
    parts = [f"FREQ={freq}", f"INTERVAL={random.randint(*steps)}"]
    # In a week the library takes days of the month for a limit, which few weeks meet.
    for name in names if freq != "WEEKLY" else [n for n in names if n in ("BYDAY", *TIMES)]:
        many = random.randint(1, 4)
        parts.append(f"{name}={','.join(map(str, random.sample(list(VALUES[name]), many)))}")
    if freq in ("MINUTELY", "HOURLY", "DAILY") and random.random() < 0.4:
        parts.append(f"BYSETPOS={random.choice((1, -1))}")
    if random.random() < 0.4:
        parts.append(f"COUNT={random.randint(1, 300)}")
    return ";".join(parts)


@pytest.mark.parametrize("seed", rest_by_night(range(150), 75))
def test_a_rule_by_days_has_the_times_that_the_library_walks(seed: int) -> None:
    random = Random(seed)
    text, first = random_rule(random), datetime(2024, 1, 1) + timedelta(seconds=random.randrange(3 * 365 * 86_400))
    rule = DailyRule.of(text, first, None)
    assert rule is not None
    try:
        wanted = list(islice(rrulestr(text, dtstart=first), 100))
    except (ValueError, TypeError):
        assert rule.steps_over_all, text
        return
    assert not rule.steps_over_all
    counted = rule.counted(wanted[-1].date() + timedelta(days=1))
    walked = (
        datetime.combine(day, time()) + timedelta(seconds=second)
        for day, times in counted.walk(first.date())
        for second in times.tolist()
    )
    assert list(islice(walked, 100)) == wanted, text
    middle = wanted[len(wanted) // 2] + timedelta(seconds=1)
    assert counted.last_until(middle) == max(at for at in wanted if at <= middle), text


@pytest.mark.parametrize(
    ("text", "firings"),
    [
        ("FREQ=SECONDLY", 31_536_000),
        ("FREQ=SECONDLY;BYMONTHDAY=-1", 12 * 86_400),
        ("FREQ=MINUTELY;BYHOUR=2", 365 * 60),
        ("FREQ=SECONDLY;INTERVAL=7", -(-31_536_000 // 7)),
        ("FREQ=SECONDLY;COUNT=1000000", 1_000_000),
        ("FREQ=DAILY;BYHOUR=1,2;BYMINUTE=0,30;BYSECOND=0,1,2", 365 * 12),
        ("FREQ=HOURLY;BYMINUTE=0,10,20;BYSETPOS=-1", 365 * 24),
        ("FREQ=WEEKLY;BYDAY=MO;BYSETPOS=1", 52),
    ],
)
def test_a_year_of_a_rule_is_counted_by_arithmetic(text: str, firings: int) -> None:
    assert year_count(Schedule(rrule=text, timezone="UTC"), 2027, "UTC") == firings


@pytest.mark.parametrize("zone", ["Europe/Dublin", "America/Santiago", "Australia/Lord_Howe", "UTC", "Asia/Kathmandu"])
@pytest.mark.parametrize("expression", ["* * * * *", "*/7 * * * *", "30 1,2 * * *", "0 0 * * *", "15 2 * * SUN"])
def test_a_year_is_its_months(zone: str, expression: str) -> None:
    """What is counted by arithmetic is what the months make one by one, clock changes and all."""
    schedule = Schedule(cron=expression, timezone=zone)
    months = [month_firings_ns(schedule, month_clock(f"2027-{n:02}", zone), zone) for n in range(1, 13)]
    assert year_count(schedule, 2027, zone) == sum(map(len, months))


@pytest.mark.parametrize("zone", ["Europe/Dublin", "Australia/Lord_Howe"])
def test_every_instant_of_a_day_shows_the_time_it_was_made_for(zone: str) -> None:
    from zoneinfo import ZoneInfo

    place = ZoneInfo(zone)
    of_day = np.arange(0, 86_400, 900, dtype=np.int64)
    changes = 0
    for n in range(365):
        day = datetime(2027, 1, 1).date() + timedelta(days=n)
        shown = [instant(s).astimezone(place).replace(tzinfo=None) for s in all_instants(place, day, of_day).tolist()]
        assert {local_s(at) - day_s(day) for at in shown} <= set(of_day.tolist())
        once = first_instants(place, day, of_day)
        assert (np.diff(once) > 0).all()
        changes += len(shown) != len(of_day)
        if len(shown) == len(of_day):
            assert (once == all_instants(place, day, of_day)).all()
    assert changes == 2


def test_a_rule_that_no_step_meets_is_refused() -> None:
    clock = month_clock("2027-03", "UTC")
    for text in ("FREQ=MINUTELY;INTERVAL=120;BYHOUR=1", "FREQ=SECONDLY;INTERVAL=60;BYSECOND=30"):
        with pytest.raises(BadSchedule, match="steps over"):
            month_recurrences_ns(Schedule(rrule=text, timezone="UTC"), clock, clock.zone)
    assert daily_rule(Schedule(rrule="FREQ=MONTHLY;BYDAY=MO;BYSETPOS=1"), clock.zone, datetime(2027, 1, 1)) is None


def test_firings_a_second_on_the_day_the_clock_goes_back_are_an_hour_more() -> None:
    clock = month_clock("2027-10", "Europe/Dublin")
    cron = parse_cron("* * * * * *", seconds=True)
    assert len(day_firings(cron, clock.zone, datetime(2027, 10, 31).date())) == 25 * 3_600
    assert len(month_firings_ns(Schedule(cron="* * * * * *", seconds=True), clock, "Europe/Dublin")) == 745 * 3_600


@pytest.mark.parametrize(
    ("zone", "ahead_h"), [("Pacific/Apia", 13), ("Pacific/Kiritimati", 14), ("UTC", 0), ("Etc/GMT+12", -12)]
)
@pytest.mark.parametrize("day", [date(9999, 12, 29), date(9999, 12, 30), date(9999, 12, 31)])
def test_the_last_days_of_the_calendar_begin_at_midnight_in_every_zone(zone: str, ahead_h: int, day: date) -> None:
    assert plain_midnight_s(ZoneInfo(zone), day) == day_s(day) - ahead_h * 3_600


@pytest.mark.parametrize("day", [date(1, 1, 1), date(1, 1, 2)])
def test_so_do_the_first_days(day: date) -> None:
    assert plain_midnight_s(ZoneInfo("Etc/GMT-14"), day) == day_s(day) - 14 * 3_600
    assert plain_midnight_s(ZoneInfo("Etc/GMT+12"), day) == day_s(day) + 12 * 3_600


@pytest.mark.parametrize("zone", ["Pacific/Apia", "UTC", "Etc/GMT+12"])
def test_the_last_firing_is_found_up_to_the_end_of_the_calendar(zone: str) -> None:
    every, by_month, until = (
        parse_cron("*/10 * * * *"),
        parse_cron("0 6 1 * *"),
        datetime(9999, 1, 1, tzinfo=ZoneInfo(zone)),
    )
    for cron, last in ((every, datetime(9998, 12, 31, 23, 50)), (by_month, datetime(9998, 12, 1, 6))):
        found = last_firing(cron, ZoneInfo(zone), until - timedelta(microseconds=1))
        assert found is not None and found.replace(tzinfo=None) == last
