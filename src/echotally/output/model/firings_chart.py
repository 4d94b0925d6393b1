"""The month's firings as a calendar: a row a day, local hours across, changes of the clock marked; with a log seen beside expected."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from echotally.demand.clock import MonthClock
from echotally.output.base.charts import COLOURS, INK, MARKS, QUIET, SMALL, new_figure, picture, source_of, titled
from echotally.projection.loaded import Loaded

if TYPE_CHECKING:
    from echotally.evidence.telemetry.firing_check import FiringCheck

#: Schedules that can be told apart by mark, and firings of one that can be told apart at all.
_MOST, _TOO_MANY = 6, 4_000


def firings_chart(loaded: Loaded, form: str) -> bytes:
    """Every schedule of the model, a mark a firing; of those that fire every few minutes a line through their hours."""
    clock = loaded.month.clock
    shown = [(name, loaded.month.firings_ns(name)) for name in list(loaded.month.firings)[:_MOST]]
    figure, panel = _calendar(clock)
    for n, (name, times) in enumerate(shown):
        places = [_place(clock, clock.instant(int(ns))) for ns in times[:_TOO_MANY]]
        shift = (n - (len(shown) - 1) / 2) * 0.13
        _marks(panel, places, n, f"{name}: {len(times):,}", shift)
    figure.legend(loc="outside lower center", ncols=3, frameon=False)
    total = ", ".join(f"{name} {'once' if len(times) == 1 else f'{len(times):,} times'}" for name, times in shown)
    titled(panel, f"In {clock.month} fire: {total}" if shown else "No schedule fires", _changes(clock))
    return picture(figure, form, source_of(loaded.model))


def firing_check_chart(loaded: Loaded, found: FiringCheck, form: str) -> bytes:
    """One schedule: firings on time, late, missed, and starts that no firing explains."""
    clock = loaded.month.clock
    figure, panel = _calendar(clock)
    off = {*found.missed, *(at for at, _ in found.late)}
    expected = [clock.instant(int(ns)) for ns in loaded.month.firings_ns(found.schedule)]
    kinds: Sequence[tuple[str, list[datetime], int]] = (
        ("as scheduled, or not looked at", [at for at in expected if at not in off], 0),
        ("late", [at for at, _ in found.late], 4),
        ("missed", list(found.missed), 1),
        ("a start too many", list(found.extra), 3),
    )
    for label, times, n in kinds:
        if times:
            _marks(panel, [_place(clock, at) for at in times[:_TOO_MANY]], n, f"{label}: {len(times):,}", 0.0)
    figure.legend(loc="outside lower center", ncols=4, frameon=False)
    said = f"{found.schedule}: of {found.expected:,} firings expected {found.on_time:,} were on time"
    said += f", {len(found.late):,} late, {len(found.missed):,} missed; {len(found.extra):,} starts too many"
    titled(panel, said, _changes(clock))
    return picture(figure, form, source_of(loaded.model))


def _calendar(clock: MonthClock) -> tuple[Any, Any]:
    figure, (panel,) = new_figure()
    first = datetime.fromisoformat(f"{clock.month}-01")
    days = (clock.end.astimezone(clock.zone).replace(tzinfo=None) - first).days
    panel.set_xlim(0, 24)
    panel.set_xticks(range(0, 25, 2))
    panel.set_ylim(days + 0.5, 0.5)
    panel.set_yticks(
        range(1, days + 1), [(first + timedelta(days=d)).strftime("%a %d") for d in range(days)], fontsize=SMALL
    )
    panel.set_xlabel(f"local hour ({clock.zone.key})")
    for day, forward in _changed(clock):
        panel.axhspan(day - 0.5, day + 0.5, color="#f2e3c9", linewidth=0)
        # Beside the calendar, where no mark is.
        hours = 24 - forward / timedelta(hours=1)
        panel.annotate(
            f" {hours:g} h", (24, day), va="center", ha="left", fontsize=SMALL, color=QUIET, annotation_clip=False
        )
    return figure, panel


def _place(clock: MonthClock, at: datetime) -> tuple[float, int]:
    local = at.astimezone(clock.zone)
    return local.hour + local.minute / 60 + local.second / 3_600, local.day


def _marks(panel: Any, places: Sequence[tuple[float, int]], n: int, label: str, shift: float) -> None:
    panel.plot(
        [hour for hour, _ in places],
        [day + shift for _, day in places],
        linestyle="none",
        marker=MARKS[n],
        markersize=6 if len(places) < 200 else 3.5,
        color=COLOURS[n],
        markeredgecolor=INK if len(places) < 200 else COLOURS[n],
        markeredgewidth=0.4,
        label=label,
    )


def _changed(clock: MonthClock) -> list[tuple[int, timedelta]]:
    """Days on which the clock changes, and how far it goes forward."""
    found = []
    first = datetime.fromisoformat(f"{clock.month}-01")
    last = clock.end.astimezone(clock.zone).replace(tzinfo=None)
    for n in range((last - first).days):
        noon, before = (
            (first + timedelta(days=n + k, hours=12)).replace(tzinfo=clock.zone).utcoffset() for k in (0, -1)
        )
        if noon is not None and before is not None and noon != before and n:
            found.append((n + 1, noon - before))
    return found


def _said(forward: timedelta) -> str:
    minutes = abs(forward) // timedelta(minutes=1)
    what = "an hour" if minutes == 60 else f"{minutes} min"
    return f"{what} {'is' if minutes == 60 else 'are'} {'missing' if forward > timedelta() else 'there twice'}"


def _changes(clock: MonthClock) -> str:
    days = [f"{day}: {_said(forward)}" for day, forward in _changed(clock)]
    return (
        f"A mark a firing; clock changes on day {'; '.join(days)}"
        if days
        else "A mark a firing; the clock does not change"
    )
