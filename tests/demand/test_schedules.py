"""Schedules: 120 cases on which two other implementations agree, cases worked by hand, month counts by brute force."""

from __future__ import annotations

import csv
import json
import os
from datetime import UTC, datetime, timedelta
from itertools import islice, pairwise
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from echotally.demand.clock import month_clock
from echotally.demand.cron import BadSchedule, firings_after, parse_cron
from echotally.demand.preview import preview_expression
from echotally.demand.schedules import month_firings_ns
from echotally.errors import BadInput
from echotally.model.estate import Schedule
from tests.conftest import rest_by_night, run_program
from tests.demand.brute_cron import month_firings

# Made by a general cron library and by tests/demand/brute_cron.py, kept where both agree.
_TEXT = (Path(__file__).parent / "schedules" / "cases.csv").read_text()
CASES = list(csv.reader(_TEXT.splitlines(), delimiter=";"))[1:]


def in_month(expression: str, zone: str, month: str) -> list[datetime]:
    clock = month_clock(month, zone)
    return [clock.instant(int(ns)) for ns in month_firings_ns(Schedule(cron=expression, timezone=zone), clock, "UTC")]


@pytest.mark.parametrize(
    ("expression", "zone", "month", "count", "first"), CASES, ids=[" | ".join(c[:3]) for c in CASES]
)
def test_firings_agree_with_two_other_implementations(expression, zone, month, count, first):
    found = in_month(expression, zone, month)
    assert len(found) == int(count)
    assert [at.strftime("%Y-%m-%dT%H:%MZ") for at in found[:3]] == first.split()


def nexts(expression: str, zone: str, after: str, n: int, seconds: bool = False) -> list[str]:
    start = datetime.fromisoformat(after).replace(tzinfo=ZoneInfo(zone))
    found = islice(firings_after(parse_cron(expression, seconds), ZoneInfo(zone), start), n)
    return [at.strftime("%Y-%m-%d %H:%M:%S%z") for at in found]


DUBLIN, NEW_YORK = "Europe/Dublin", "America/New_York"


@pytest.mark.parametrize(
    ("expression", "zone", "after", "expected"),
    [
        # 1 May 2027 is a Saturday: its nearest weekday inside the month is Monday the 3rd.
        ("0 6 1W * *", "UTC", "2027-05-01T00:00", ["2027-05-03 06:00:00+0000"]),
        # 15 August 2027 is a Sunday: the nearest weekday is Monday the 16th.
        ("0 6 15W * *", "UTC", "2027-08-01T00:00", ["2027-08-16 06:00:00+0000"]),
        # 31 October 2027 is a Sunday and the month's last day: back to Friday the 29th. November has no 31st.
        ("0 6 31W * *", "UTC", "2027-10-01T00:00", ["2027-10-29 06:00:00+0000", "2027-12-31 06:00:00+0000"]),
        # The last weekday of February 2027 is Friday the 26th.
        ("0 6 LW * *", "UTC", "2027-02-01T00:00", ["2027-02-26 06:00:00+0000"]),
        ("0 12 ? * 6#2 2027", "UTC", "2027-01-01T00:00", ["2027-01-08 12:00:00+0000"]),
        ("0 12 1 * ? 2028-2029", "UTC", "2027-05-01T00:00", ["2028-01-01 12:00:00+0000"]),
        ("0 12 ? 6 1 *", "UTC", "2027-06-01T00:00", ["2027-06-06 12:00:00+0000"]),
        # Restricted day of month and day of week: either; a field that begins with * restricts nothing.
        ("0 0 13 * FRI", "UTC", "2027-08-01T00:00", ["2027-08-06 00:00:00+0000", "2027-08-13 00:00:00+0000"]),
        ("0 0 */10 * MON", "UTC", "2027-02-01T01:00", ["2027-03-01 00:00:00+0000"]),
        # Spring gap: 01:30 does not exist on 28 March in Dublin; the job runs right after the gap, once.
        ("30 1 * * *", DUBLIN, "2027-03-27T12:00", ["2027-03-28 02:00:00+0100", "2027-03-29 01:30:00+0100"]),
        ("0,15,30,45 1 * * *", DUBLIN, "2027-03-27T12:00", ["2027-03-28 02:00:00+0100", "2027-03-29 01:00:00+0100"]),
        # A regular match of that instant is the same firing.
        ("30 1,2 * * *", DUBLIN, "2027-03-27T12:00", ["2027-03-28 02:00:00+0100", "2027-03-28 02:30:00+0100"]),
        # Wildcard jobs follow elapsed minutes: nothing in the gap.
        ("*/30 * * * *", DUBLIN, "2027-03-28T00:29", ["2027-03-28 00:30:00+0000", "2027-03-28 02:00:00+0100"]),
        ("30 * * * *", DUBLIN, "2027-03-27T23:59", ["2027-03-28 00:30:00+0000", "2027-03-28 02:30:00+0100"]),
        # Autumn overlap: a fixed job runs at the first 01:30 only, a wildcard job at both.
        ("30 1 * * *", DUBLIN, "2027-10-30T12:00", ["2027-10-31 01:30:00+0100", "2027-11-01 01:30:00+0000"]),
        ("30 * * * *", DUBLIN, "2027-10-31T00:59", ["2027-10-31 01:30:00+0100", "2027-10-31 01:30:00+0000"]),
        ("0 2 * * *", NEW_YORK, "2027-03-13T12:00", ["2027-03-14 03:00:00-0400", "2027-03-15 02:00:00-0400"]),
        # Half an hour of daylight saving: on 4 April 2027 clocks go from 02:00 back to 01:30.
        ("45 1 * * *", "Australia/Lord_Howe", "2027-04-03T12:00", ["2027-04-04 01:45:00+1100", "2027-04-05 01:45:00+1030"]),
        # A zone that left out a whole day: 30 December 2011 does not exist in Apia.
        ("0 12 30 12 *", "Pacific/Apia", "2011-12-01T00:00", ["2011-12-31 00:00:00+1400"]),
        ("@daily", DUBLIN, "2027-06-01T00:00", ["2027-06-02 00:00:00+0100"]),
        ("@yearly", "UTC", "2027-06-01T00:00", ["2028-01-01 00:00:00+0000"]),
        ("0 0 29 2 *", "UTC", "2097-01-01T00:00", ["2104-02-29 00:00:00+0000"]),
        ("0 0 * * 0", "UTC", "2027-03-01T00:00", ["2027-03-07 00:00:00+0000"]),
        ("0 0 * * 7", "UTC", "2027-03-01T00:00", ["2027-03-07 00:00:00+0000"]),
    ],
)  # fmt: skip
def test_cases_worked_by_hand(expression, zone, after, expected):
    assert nexts(expression, zone, after, len(expected)) == expected


def test_seconds_come_first_when_they_are_switched_on():
    assert nexts("*/20 0 9 * * *", "UTC", "2027-03-01T00:00", 4, seconds=True) == [
        "2027-03-01 09:00:00+0000", "2027-03-01 09:00:20+0000", "2027-03-01 09:00:40+0000", "2027-03-02 09:00:00+0000",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("expression", "says"),
    [
        ("60 * * * *", "bad minute field"),
        ("* 24 * * *", "bad hour field"),
        ("* * 0 * *", "bad day of month field"),
        ("* * * 13 *", "bad month field"),
        ("* * * * 8", "bad day of week field"),
        ("* * * * MOO", "bad day of week field"),
        ("*/0 * * * *", "bad minute field"),
        ("1-x * * * *", "bad minute field"),
        ("", "has 0 fields"),
        ("* * * *", "has 4 fields"),
        ("* * * * * * *", "has 7 fields"),
        ("0 22-2 * * *", 'two parts: "22-23,0-2"'),
        ("0 0 * * FRI-SUN", 'two parts: "5-6,0"'),
        ("0 0 * * * *", "can be read two ways"),
        ("0 0 ? * ? 2027", "in both day fields"),
        ("0 0 1 * ? 1969", "bad year field"),
        ("0 0 ? * 0 2027", "bad day of week"),
        ("0 0 30 2 *", "can never fire"),
        ("0 0 31 4,6,9,11 *", "can never fire"),
        ("0 0 29 2 ? 2027", "can never fire"),
        ("0 0 31W 2 *", "can never fire"),
        ("0 0 L-31 * *", "bad day of month field"),
        ("0 0 L-30 2,4 *", "can never fire"),
        ("@sometimes", "not a known @-form"),
    ],
)
def test_a_bad_expression_says_which_field_and_why(expression, says):
    with pytest.raises(BadSchedule) as caught:
        parse_cron(expression)
    assert says in str(caught.value)


PAIRS = [
    ("* * * * *", DUBLIN), ("*/7 1-3 * * *", DUBLIN), ("30 1 * * *", DUBLIN), ("0 */2 * * *", NEW_YORK),
    ("15 2 * * SUN", NEW_YORK), ("5,35 1,2 * * *", DUBLIN), ("0 0 L * *", "Asia/Kathmandu"), ("0 0 L-3 * *", DUBLIN), ("0 5 L-1,2,15W * *", "UTC"), ("0 5 L-7 * MON", "UTC"), ("0 6 15W * *", "UTC"),
    ("10 0 * * 1#1", "Australia/Lord_Howe"), ("0 2 */9 * 2", "Africa/Casablanca"),
]  # fmt: skip


@pytest.mark.parametrize("month", rest_by_night(("2027-03", "2027-10", "2027-11"), 2))
@pytest.mark.parametrize(("expression", "zone"), PAIRS)
def test_month_counts_equal_a_brute_force_minute_matcher(expression, zone, month):
    assert in_month(expression, zone, month) == month_firings(expression, zone, month)


@settings(max_examples=int(os.environ.get("FUZZ_EXAMPLES", "4")), deadline=None)
@given(
    st.sampled_from(["*", "*/11", "7", "0-20/4", "3,33"]),
    st.sampled_from(["*", "*/5", "1", "1-3", "0,2,22"]),
    st.sampled_from(["*", "1", "*/6", "13,27", "L", "12W"]),
    st.sampled_from(["*", "1-5", "SUN", "2#2", "4L"]),
    st.sampled_from([DUBLIN, NEW_YORK, "Australia/Lord_Howe", "Asia/Kathmandu"]),
    st.sampled_from(["2027-03", "2027-10", "2028-02"]),
)
def test_any_expression_equals_the_brute_force_matcher(minute, hour, day, weekday, zone, month):
    expression = f"{minute} {hour} {day} * {weekday}"
    assert in_month(expression, zone, month) == month_firings(expression, zone, month)


def test_every_counts_elapsed_time_from_its_anchor():
    clock = month_clock("2027-03", DUBLIN)
    plain = month_firings_ns(Schedule(every="5 min"), clock, DUBLIN)
    assert len(plain) == 743 * 12
    assert plain[0] == 0
    anchored = Schedule.model_validate({"every": "7 h", "from": "2027-02-28T22:00"})
    assert month_firings_ns(anchored, clock, DUBLIN)[:2].tolist() == [5 * 3600 * 10**9, 12 * 3600 * 10**9]
    later = Schedule.model_validate({"every": "1 d", "from": "2027-03-30T06:00"})
    assert len(month_firings_ns(later, clock, DUBLIN)) == 2


def test_recurrence_rules_follow_rfc_5545():
    # RFC 5545, section 3.8.5.3: the last work day of the month.
    rule = "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;BYHOUR=6;BYMINUTE=0;BYSECOND=0"
    seen = preview_expression(rule, DUBLIN, datetime(2027, 1, 1), 3, "2027-03", False)
    assert [f"{at:%m-%d %H:%M}" for at in seen.firings] == ["01-29 06:00", "02-26 06:00", "03-31 06:00"]
    assert seen.month_count == 1
    with pytest.raises(BadInput, match="not a recurrence rule"):
        preview_expression("FREQ=SOMETIMES", "UTC", None, 1, None, False)


def test_the_program_answers_in_the_form_of_the_design(tmp_path):
    arguments = [
        "firings",
        "30 1 * * *",
        "--timezone",
        DUBLIN,
        "--from",
        "2027-03-27T01:30",
        "--count",
        "2",
        "--month",
        "2027-10",
    ]
    done = run_program(*arguments, "--ics", "f.ics", cwd=tmp_path)
    data = json.loads(done.stdout)
    assert data["words"] == "At 01:30 every day"
    assert data["firings"] == [
        {"local": "2027-03-28T02:00:00+01:00", "utc": "2027-03-28T01:00:00Z"},
        {"local": "2027-03-29T01:30:00+01:00", "utc": "2027-03-29T00:30:00Z"},
    ]
    assert data["month_count"] == 31
    assert data["clock_changes"] == ["01:30 on 31 October comes twice; fires at the first of the two only"]
    from icalendar import Calendar

    events = Calendar.from_ical((tmp_path / "f.ics").read_bytes()).walk("VEVENT")
    assert [event["dtstart"].dt.astimezone(UTC) for event in events] == [
        datetime(2027, 3, 28, 1, tzinfo=UTC), datetime(2027, 3, 29, 0, 30, tzinfo=UTC),
    ]  # fmt: skip
    assert run_program("firings", "61 * * * *", cwd=tmp_path).returncode == 2
    assert "bad minute field" in run_program("firings", "61 * * * *", cwd=tmp_path).stderr


def test_a_models_schedules_are_shown_with_their_cadences(river, tmp_path):
    data = json.loads(run_program("firings", str(river), "--format", "json", cwd=tmp_path).stdout)
    charts = data["schedules"][0]
    assert (charts["month_count"], charts["year_count"]) == (31, 365)
    assert charts["clock_changes"] == ["01:30 on 28 March does not exist; fires once, at 02:00"]
    counts = {c["cadence"]: c["firings"] for c in charts["cadences"]}
    assert counts["every minute"] == 743 * 60
    assert (counts["every week"], counts["every month"]) == (5, 1)
    assert "no overlap" in charts["overlap"]


def test_strictly_after_and_in_order():
    start = datetime(2027, 3, 28, 1, 0, tzinfo=UTC)
    found = list(islice(firings_after(parse_cron("30 1,2 * * *"), ZoneInfo(DUBLIN), start), 40))
    assert found[0] > start
    assert all(a < b and b - a <= timedelta(hours=25) for a, b in pairwise(found))


@pytest.mark.parametrize(
    ("expression", "last"),
    [
        ("0 12 1 1 ? 2020", "2020-01-01T12:00:00"),
        ("30 4 ? * FRI 2019-2021/2", "2021-12-31T04:30:00"),
        ("FREQ=DAILY;UNTIL=20270210", "2027-02-10T00:00:00"),
    ],
)
def test_an_expression_that_fires_no_more_gives_an_empty_list_and_its_last_firing(expression, last, tmp_path):
    done = run_program("firings", expression, "--from", "2027-03-01T00:00", cwd=tmp_path)
    found = json.loads(done.stdout)
    assert (done.returncode, found["firings"], found["last"]["local"]) == (0, [], f"{last}+00:00")
    said = run_program("firings", expression, "--from", "2027-03-01T00:00", "--format", "table", cwd=tmp_path).stdout
    assert f"Fires no more: its last firing was {last.replace('T', ' ')} UTC." in said


def test_one_that_goes_on_names_no_last_firing(tmp_path):
    done = run_program("firings", "0 12 1 1 ? 2020,2030", "--from", "2027-03-01T00:00", cwd=tmp_path)
    assert json.loads(done.stdout)["last"] is None
