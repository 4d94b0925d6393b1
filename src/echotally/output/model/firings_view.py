"""Firings in the terminal, as JSON and as iCalendar."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.demand.preview import Preview, zone_data_version
from echotally.errors import safe
from echotally.evidence.telemetry.firing_check import FiringCheck
from echotally.output.base.terminal import Column, count, money, rendered, signed, table
from echotally.studies.firings import FiringsView, ScheduleView


def preview_dict(seen: Preview) -> dict[str, Any]:
    """A preview as plain data."""
    return {
        "expression": seen.expression,
        "timezone": seen.timezone,
        "words": seen.words,
        "firings": [{"local": at.isoformat(), "utc": _utc(at)} for at in seen.firings],
        "month": seen.month,
        "month_count": seen.month_count,
        "year_count": seen.year_count,
        "clock_changes": list(seen.clock_changes),
        "last": None if seen.last is None else {"local": seen.last.isoformat(), "utc": _utc(seen.last)},
    }


def _utc(at: datetime) -> str:
    return at.astimezone(UTC).isoformat().replace("+00:00", "Z")


def preview_json(seen: Preview) -> str:
    """A preview as JSON text."""
    return json.dumps(preview_dict(seen), indent=2, ensure_ascii=False) + "\n"


def firings_json(view: FiringsView) -> str:
    """All schedules of a model as JSON text."""
    schedules = [
        {
            "schedule": s.name,
            **preview_dict(s.preview),
            "overlap": s.overlap,
            "cadences": [
                {"cadence": c.name, "firings": c.firings, "cost": None if c.cost is None else f"{c.cost:f}"}
                for c in s.cadences
            ],
        }
        for s in view.schedules
    ]
    head = {"schema": "echotally-firings/1", "plan": view.plan, "currency": view.currency, "schedules": schedules}
    return json.dumps(head, indent=2, ensure_ascii=False) + "\n"


def firings_rows(previews: list[tuple[str, Preview]]) -> str:
    """One row a firing, as JSON text, for CSV and Markdown."""
    rows = [
        {
            "schedule": name,
            "expression": seen.expression,
            "timezone": seen.timezone,
            "local": at.isoformat(),
            "utc": _utc(at),
        }
        for name, seen in previews
        for at in seen.firings
    ]
    return json.dumps({"rows": rows})


def _firings_table(seen: Preview, width: int | None) -> RenderableType:
    rows = [[f"{at:%a}", f"{at:%Y-%m-%d %H:%M:%S}", f"{at:%z} {at:%Z}", _utc(at)] for at in seen.firings]
    columns = [
        Column("day", False),
        Column(f"local ({seen.timezone})", False),
        Column("offset", False),
        Column("UTC", False),
    ]
    return table(f"Next {len(rows)} firings", columns, rows, width=width)


def _head(seen: Preview) -> list[RenderableType]:
    year = seen.month[:4]
    lines = [
        f"{seen.words}, in {seen.timezone}.",
        f"{count(seen.month_count)} firings in {seen.month}, {count(seen.year_count)} in {year}.",
        *(f"Clock change: {effect}." for effect in seen.clock_changes),
    ]
    if seen.last is not None:
        lines.insert(0, f"Fires no more: its last firing was {seen.last:%Y-%m-%d %H:%M:%S %Z}.")
    return [Text(safe(line)) for line in lines]


def preview_text(seen: Preview, width: int | None = None, colour: bool | None = None) -> str:
    """One expression in the terminal."""
    parts = [Text(safe(seen.expression), style="bold"), *_head(seen), Text(""), _firings_table(seen, width)]
    parts.append(Text(f"Assumed: time zone data {zone_data_version()}.", style="dim"))
    return rendered(parts, width, colour)


def firings_text(view: FiringsView, width: int | None = None, colour: bool | None = None) -> str:
    """All schedules of a model in the terminal."""
    if not view.schedules:
        return "The model has no schedules.\n"
    parts: list[RenderableType] = []
    for s in view.schedules:
        parts += [Text(f"{safe(s.name)}   {safe(s.preview.expression)}", style="bold"), *_head(s.preview)]
        parts += [Text(safe(f"Runs: {s.overlap}.")), Text(""), _firings_table(s.preview, width)]
        if s.cadences:
            parts.append(_cadences(view, s, width))
    costed = any(s.cadences for s in view.schedules)
    costs = "costs are the whole estate's month" if costed else "--cadences costs the same jobs at other cadences"
    parts.append(Text(f"Assumed: time zone data {zone_data_version()}; {costs}.", style="dim"))
    return rendered(parts, width, colour)


def _cadences(view: FiringsView, s: ScheduleView, width: int | None) -> RenderableType:
    now = view.cost_now
    rows = [["as it is", count(s.preview.month_count), "–" if now is None else money(now), ""]]
    for c in s.cadences:
        change = "" if c.cost is None or now is None else signed(c.cost - now)
        rows.append([c.name, count(c.firings), "–" if c.cost is None else money(c.cost), change])
    columns = [Column("cadence", False), Column("firings"), Column(f"month ({view.currency})"), Column("change")]
    return table(f"The same job at other cadences, on {view.plan}", columns, rows, width=width)


def calendar_bytes(previews: list[tuple[str, Preview]]) -> bytes:
    """The listed firings as iCalendar events (RFC 5545), one a firing, without duration."""
    from icalendar import Calendar, Event

    calendar = Calendar()
    calendar.add("prodid", "-//Echo Tally//firings//EN")
    calendar.add("version", "2.0")
    for name, seen in previews:
        for at in seen.firings:
            event = Event()
            event.add("uid", f"{at.astimezone(UTC):%Y%m%dT%H%M%SZ}-{name}@echotally.invalid")
            event.add("dtstamp", at.astimezone(UTC))
            event.add("dtstart", at.astimezone(UTC))
            event.add("summary", name)
            event.add("description", seen.words)
            calendar.add_component(event)
    return bytes(calendar.to_ical())


def check_verdict(found: FiringCheck) -> str:
    """How many firings came, and the zone's fault where there is one."""
    counts = (
        f"{found.on_time:,} on time, {len(found.late):,} late, {len(found.missed):,} missed, {len(found.extra):,} extra"
    )
    text = f"{found.schedule}: {found.expected:,} firings in the log's span: {counts}."
    if found.shift_h:
        way = "later" if found.shift_h > 0 else "earlier"
        hours = "hour" if abs(found.shift_h) == 1 else "hours"
        text = (
            f"{found.schedule} runs {abs(found.shift_h)} {hours} {way} than its schedule says: so shifted, "
            f"{found.shifted_share:.0%} of the firings are met. Its zone is read wrongly on one side. As written: {counts}."
        )
    return text


def check_text(found: FiringCheck, width: int | None = None, colour: bool | None = None, most: int = 50) -> str:
    """The verdict, then each firing that was missed, late or extra, the first ``most`` of them."""
    rows = [
        [row["at"], row["what"], "" if row["by_s"] is None else f"{row['by_s']:,.0f} s"] for row in _odd_firings(found)
    ]
    parts: list[RenderableType] = [Text(safe(check_verdict(found)), style="bold"), Text("")]
    if rows[:most]:
        columns = [Column("time (UTC)", False), Column("what", False), Column("by", False)]
        parts.append(table(f"Not as scheduled ({found.function})", columns, rows[:most], (), width))
    if len(rows) > most:
        parts.append(Text(f"... and {len(rows) - most:,} more; --count shows more, --format json has all."))
    parts.append(Text("Extra starts may be repeats of a failed run.", style="dim"))
    parts += [Text(f"Note: {safe(note)}") for note in found.notes]
    parts += [Text(f"Odd: {safe(str(trouble))}", style="yellow") for trouble in found.troubles]
    return rendered(parts, width, colour)


def _odd_firings(found: FiringCheck) -> list[dict[str, Any]]:
    """Each firing that was missed, late or extra, in the order of time."""
    rows: list[dict[str, Any]] = [
        *({"at": _utc(at), "what": "missed", "by_s": None} for at in found.missed),
        *({"at": _utc(at), "what": "late", "by_s": by} for at, by in found.late),
        *({"at": _utc(at), "what": "extra", "by_s": None} for at in found.extra),
    ]
    return sorted(rows, key=lambda row: (row["at"], row["what"]))


def check_json(found: FiringCheck) -> str:
    """The comparison as data (schema ``echotally-firing-check/1``)."""
    data = {
        "schema": "echotally-firing-check/1",
        "schedule": found.schedule,
        "function": found.function,
        "expected": found.expected,
        "seen": found.seen,
        "on_time": found.on_time,
        "late": [{"at": _utc(at), "by_s": by} for at, by in found.late],
        "missed": [_utc(at) for at in found.missed],
        "extra": [_utc(at) for at in found.extra],
        "rows": _odd_firings(found),
        "shift_h": found.shift_h,
        "shifted_share": found.shifted_share,
        "notes": [*found.notes, *map(str, found.troubles)],
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"
