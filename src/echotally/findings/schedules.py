"""Findings about schedules: cadence, fields that are easily mistaken, zones, clock changes, overlap."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import timedelta
from zoneinfo import ZoneInfo

from echotally.demand.clock import month_clock
from echotally.demand.preview import clock_change_effects
from echotally.demand.schedules import firings, last_before, month_firings_ns, schedule_words, zone_of
from echotally.demand.stretches import Stretches
from echotally.findings.context import Context
from echotally.findings.rule import Noticed, Sets, rule
from echotally.model.addresses import dotted
from echotally.model.estate import Schedule
from echotally.model.units import duration_text

#: Words of a name that tell how often its author thinks it runs, and a cron that does so.
_NAMED = {
    "hourly": "0 * * * *",
    "daily": "0 2 * * *",
    "nightly": "0 2 * * *",
    "night": "0 2 * * *",
    "weekly": "0 2 * * 1",
    "monthly": "0 2 1 * *",
    "month": "0 2 1 * *",
    "yearly": "0 2 1 1 *",
}
#: Items from which a firing looks like a day's work rather than a minute's.
_MANY_ITEMS = 100


def _fields(schedule: Schedule) -> list[str]:
    """The five classic fields, or nothing for other forms."""
    parts = (schedule.cron or "").split()
    return parts if len(parts) == 5 and not schedule.seconds else []


def _firings(ctx: Context, name: str) -> Stretches:
    return ctx.loaded.month.firings[name]


@rule(
    "S01",
    "warning",
    "fires every minute though its work is not a minute's",
    "A trial schedule left at every minute bills a month of runs before anyone looks.",
    cites="2.8",
)
def every_minute(ctx: Context) -> Iterator[Noticed]:
    """Every minute, while the name or the items say otherwise."""
    for name, schedule in ctx.model.schedules.items():
        n, minutes = len(_firings(ctx, name)), ctx.month_s / 60
        # Whole words only: 'knightly' is no night.
        word = next((word for word in _NAMED if word in re.split(r"[^a-z]+", name.lower())), None)
        # Nearly every minute is every minute: clock changes take a few.
        if n < 0.9 * minutes or (word is None and schedule.items < _MANY_ITEMS):
            continue
        cron = _NAMED[word] if word else "0 * * * *"
        cleared: Sets = ((dotted(("schedules", name, "every")), ""),) if schedule.every else ()
        sets: Sets = (*cleared, (dotted(("schedules", name, "cron")), cron))
        saves = ctx.saving(sets)
        reason = f"its name says {word}" if word else f"each firing hands over {schedule.items:,} items"
        cost = f"{ctx.money(saves)} a month of it is avoidable" if saves else f"{n:,} firings are billed"
        yield Noticed(
            dotted(("schedules", name, _form(schedule))),
            f"fires {n:,} times in the month, every minute, but {reason}",
            cost,
            sets,
            saves,
            accepts=("wait_p95_s",),
        )


def _form(schedule: Schedule) -> str:
    return "cron" if schedule.cron else "every" if schedule.every else "rrule"


@rule(
    "S02",
    "hint",
    "a fixed minute where every minute was likely meant",
    "'1 * * * *' fires once an hour, at minute 1; '*/1' or '*' fires every minute.",
    cites="2.8",
)
def fixed_minute(ctx: Context) -> Iterator[Noticed]:
    """Minute 1 and every other field open."""
    for name, schedule in ctx.model.schedules.items():
        if _fields(schedule) == ["1", "*", "*", "*", "*"]:
            sets = ((dotted(("schedules", name, "cron")), "*/1 * * * *"),)
            n = len(_firings(ctx, name))
            yield Noticed(
                dotted(("schedules", name, "cron")),
                f"fires at minute 1 of every hour, {n:,} times in the month",
                f"if every minute was meant, {int(ctx.month_s / 60) - n:,} firings are missing",
                sets,
            )


@rule(
    "S03",
    "warning",
    "day of month and day of week are both restricted",
    "Where both are given a job fires when either matches, which few people expect.",
    cites="7.25",
)
def both_days(ctx: Context) -> Iterator[Noticed]:
    """Both day fields given."""
    for name, schedule in ctx.model.schedules.items():
        fields = _fields(schedule)
        if not fields or any(f.startswith(("*", "?")) for f in (fields[2], fields[4])):
            continue
        narrow = " ".join([*fields[:4], "*"])
        zone = ctx.model.estate.timezone
        # Counted, since how far both readings are apart depends on the days.
        alone = len(month_firings_ns(schedule.model_copy(update={"cron": narrow}), ctx.loaded.month.clock, zone))
        n = len(_firings(ctx, name))
        sets = ((dotted(("schedules", name, "cron")), narrow),)
        yield Noticed(
            dotted(("schedules", name, "cron")),
            f"fires on days of month {fields[2]} and also on days of week {fields[4]}: "
            f"{n} times in the month, {alone} by the day of month alone",
            f"{n - alone} firings may be more than was meant",
            sets,
            ctx.saving(sets),
        )


@rule(
    "S04",
    "hint",
    "a local time that a clock change skips or repeats",
    "On the day clocks change a local time may not exist, or come twice; some platforms skip or double the run.",
    cites="2.8",
)
def near_clock_change(ctx: Context) -> Iterator[Noticed]:
    """A firing inside a gap or overlap of the year."""
    year = ctx.model.estate.month[:4]
    for name, schedule in ctx.model.schedules.items():
        fields = _fields(schedule)
        if not fields or not fields[0].isdigit() or not fields[1].isdigit():
            continue
        zone = str(zone_of(schedule, ctx.model.estate.timezone))
        months = [month_clock(f"{year}-{n:02}", zone) for n in range(1, 13)]
        effects = [effect for clock in months for effect in clock_change_effects(schedule, clock)]
        if effects:
            # Four in the morning is out of the reach of nearly all clock changes.
            sets = ((dotted(("schedules", name, "cron")), " ".join([fields[0], "4", *fields[2:]])),)
            yield Noticed(
                dotted(("schedules", name, "cron")),
                "; ".join(effects),
                "a run at an unexpected hour, once or twice a year",
                sets,
            )


@rule(
    "S05",
    "warning",
    "a month-start job in UTC while the estate is elsewhere",
    "Midnight UTC of the first is another hour, or another month, where the estate's people live.",
    cites="2.8",
)
def month_start_in_utc(ctx: Context) -> Iterator[Noticed]:
    """First of the month in UTC."""
    zone = ctx.model.estate.timezone
    for name, schedule in ctx.model.schedules.items():
        fields = _fields(schedule)
        if not fields or fields[2] != "1" or schedule.timezone not in ("UTC", "Etc/UTC") or zone == schedule.timezone:
            continue
        times = _firings(ctx, name)
        at = ctx.loaded.month.clock.instant(times[0].start_ns).astimezone(ZoneInfo(zone)) if times else None
        where = f"fires at {at:%d %B %H:%M} in {zone}" if at else f"does not fire in the month as {zone} counts it"
        sets = ((dotted(("schedules", name, "timezone")), zone),)
        yield Noticed(
            dotted(("schedules", name, "timezone")),
            f"is set for the first of the month in UTC; it {where}",
            "the figures it works on may be those of another month",
            sets,
        )


@rule(
    "S07",
    "warning",
    "does not fire in the month that is projected",
    "The month shows nothing of it: no run, no cost, no throttling.",
    cites="7.36",
)
def silent(ctx: Context) -> Iterator[Noticed]:
    """No firing from the month's start to its end."""
    clock = ctx.loaded.month.clock
    for name, schedule in ctx.model.schedules.items():
        if _firings(ctx, name):
            continue
        zone = zone_of(schedule, ctx.model.estate.timezone)
        coming = next(firings(schedule, zone, clock.end - timedelta(microseconds=1), clock.start), None)
        last = last_before(schedule, zone, clock.start)
        when = f"next on {coming:%d %B %Y}" if coming else f"last on {last:%d %B %Y}" if last else "never again"
        yield Noticed(
            dotted(("schedules", name, _form(schedule))),
            f"{schedule_words(schedule)}: no firing in {ctx.model.estate.month}, {when}",
            "work that other months have is missing from this one",
            (),
        )


@rule(
    "S06",
    "warning",
    "fires again before its run is over",
    "Runs overlap; where they also take longer than instances allow, they pile up all month.",
    cites="2.9",
)
def overlaps(ctx: Context) -> Iterator[Noticed]:
    """Gap between firings shorter than a typical run."""
    for name, schedule in ctx.model.schedules.items():
        gap_s = (_firings(ctx, name).closest_ns or 0) / 1e9
        if not gap_s or schedule.overlap == "skip":
            continue
        for trigger in ctx.model.triggers:
            if trigger.from_ != f"schedules.{name}":
                continue
            # A run ends at its timeout, however long it would be.
            run_s = min(ctx.run_s(trigger.to, 0.5, schedule.items), ctx.timeout_s(trigger.to))
            if run_s < gap_s:
                continue
            # More runs at once than there is room for never come to an end of it.
            growing = run_s / gap_s > ctx.parallel(trigger.to)
            pile = "and they pile up: more come than can end" if growing else "on as many instances"
            sets = ((dotted(("schedules", name, "overlap")), "skip"),)
            yield Noticed(
                dotted(("schedules", name, _form(schedule))),
                f"fires every {duration_text(int(gap_s * 1e9))}, but a run of {trigger.to} takes {run_s:,.1f} s: "
                f"about {run_s / gap_s:,.1f} run at once, {pile}",
                "work done twice over, or late",
                sets,
            )


@rule(
    "S08",
    "warning",
    "a weekday number that means another day elsewhere in the model",
    "Where a year stands last weekdays count from 1 for Sunday; in the other forms 1 is Monday.",
    cites="7.28",
)
def two_ways_to_count_weekdays(ctx: Context) -> Iterator[Noticed]:
    """Numbered weekdays in both countings within one model."""
    numbered = {n: s for n, s in ctx.model.schedules.items() if s.cron and _weekday_numbers(s)}
    last = {n: s for n, s in numbered.items() if _year_last(s)}
    if not last or len(last) == len(numbered):
        return
    other = next(n for n in numbered if n not in last)
    for name, schedule in last.items():
        fields = (schedule.cron or "").split()
        named = re.sub(r"(?<![#/\d])([1-7])(?!\d)", lambda m: _DAYS[int(m[1]) - 1], fields[4])
        sets: Sets = ((dotted(("schedules", name, "cron")), " ".join([*fields[:4], named, fields[5]])),)
        yield Noticed(
            dotted(("schedules", name, "cron")),
            f"weekday {fields[4]} is {named} here, where a year stands last; in schedules.{other} the same number is a day later",
            "a job on the wrong day of the week",
            sets,
        )


_DAYS = ("SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT")


def _year_last(schedule: Schedule) -> bool:
    return len((schedule.cron or "").split()) == 6 and not schedule.seconds


def _weekday_numbers(schedule: Schedule) -> bool:
    parts = (schedule.cron or "").split()
    if len(parts) not in (5, 6):
        return False
    field = parts[4] if len(parts) == 5 or not schedule.seconds else parts[5]
    return bool(re.search(r"(?<![#/])\d", field))
