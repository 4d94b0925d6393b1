"""What the clock brings, as records: what holds of incidents from one moment to the next, releases, floors (rule 8)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from echotally.demand.happenings import Happenings, Window
from echotally.engine import codes, layout, records
from echotally.engine.build.shared import Shared, Unit
from echotally.model.happenings import Incident

#: Of an incident and a unit: runs drawn anew; where runs belong to events, what kind of run and how long.
_PURPOSES = ("other", "other-kind", "other-same")
#: A moment, a code of ``codes.T_RUNS`` and the like, whose, and the value.
_Turn = tuple[int, int, int, int]


def turns_of(shared: Shared, happenings: Happenings, accounts: Any, length_ns: int) -> tuple[Any, Any]:
    """Records of turns, in the order in which they come, and of the conditions that runs are under."""
    holding = [
        (incident, windows)
        for incident, windows in zip(shared.model.incidents, happenings.incidents, strict=False)
        if windows
    ]
    conditions = _Conditions(shared)
    rows: list[_Turn] = []
    for n, unit in enumerate(shared.units):
        own = [(incident, windows) for incident, windows in holding if _changes_runs_of(incident, unit)]
        rows += ((at, int(codes.T_RUNS), n, conditions.of(n, unit, held)) for at, held in _held(own))
        rows += ((at, int(codes.T_FLOOR), n, floor) for at, floor in _floors(shared, n, unit, happenings))
        rows += ((at, int(codes.T_RELEASE), n, 0) for at in happenings.releases.get(unit.function, ()))
    for n, account in enumerate(shared.accounts):
        rows += _of_account(shared, n, account, holding, int(accounts[n]["limit"]))
    # Within an instant as rules 7.56 and 7.58 have it: limits before what must be filled, floors before releases.
    rows.sort(key=lambda turn: (turn[0], _ORDER[turn[1]], turn[2]))
    found = layout.records(records.Turn, len(rows))
    found["at"] = codes.NEVER
    within = [row for row in rows if row[0] < length_ns]
    if within:
        # By columns: record by record takes a hundred times as long.
        for name, column in zip(("at", "kind", "ref", "value"), zip(*within, strict=True), strict=True):
            found[name][: len(within)] = column
    return found, conditions.records()


_ORDER = {
    int(kind): n for n, kind in enumerate((codes.T_RUNS, codes.T_LIMIT, codes.T_GROWTH, codes.T_FLOOR, codes.T_RELEASE))
}


def _changes_runs_of(incident: Incident, unit: Unit) -> bool:
    return (
        (incident.functions is None or unit.function in incident.functions)
        and (incident.environments is None or unit.environment in incident.environments)
        and not (incident.run_times is None and incident.run is None and incident.error_rate is None)
    )


def _held(
    incidents: Sequence[tuple[Incident, Sequence[Window]]],
) -> Iterator[tuple[int, tuple[Incident, ...]]]:
    """From each moment on, which incidents hold, in the order in which they are named."""
    moments = sorted({at for _, windows in incidents for window in windows for at in window})
    places = [0] * len(incidents)
    for at in moments:
        held = []
        for n, (incident, windows) in enumerate(incidents):
            while places[n] < len(windows) and windows[places[n]][1] <= at:
                places[n] += 1
            if places[n] < len(windows) and windows[places[n]][0] <= at:
                held.append(incident)
        yield at, tuple(held)


def _floors(shared: Shared, n: int, unit: Unit, happenings: Happenings) -> Iterator[tuple[int, int]]:
    """Changes of a unit's floor, which stays within its limit; reserved plans have none (rule 7.82)."""
    if unit.offer.plan.bills == "reserved":
        return
    limit = unit.settings.limit
    for at, floor in happenings.floors.get(unit.function, ()):
        yield at, floor if limit is None else min(floor, limit)


def _of_account(
    shared: Shared, n: int, account: tuple[str, str], holding: Sequence[tuple[Incident, Sequence[Window]]], limit: int
) -> Iterator[_Turn]:
    """Changes of an account's limit, and of whether its instances may start (rule 7.59)."""
    uses = {env for env, its in shared.model.environments.items() if (its.account or "") == account[0]}
    own = [(i, w) for i, w in holding if i.environments is None or uses & set(i.environments)]
    for at, held in _held([(i, w) for i, w in own if i.concurrency_limit is not None]):
        yield at, int(codes.T_LIMIT), n, held[-1].concurrency_limit or 0 if held else limit
    for at, held in _held([(i, w) for i, w in own if i.no_new_instances]):
        yield at, int(codes.T_GROWTH), n, int(codes.YES if held else codes.NO)


class _Conditions:
    """The conditions that units come under, each kept once."""

    def __init__(self, shared: Shared) -> None:
        self._shared = shared
        self._places: dict[tuple[int, tuple[str, ...]], int] = {}
        self._rows: list[tuple[Unit, tuple[Incident, ...]]] = []
        self._streams: dict[tuple[int, str], int] = {}

    def of(self, n: int, unit: Unit, held: tuple[Incident, ...]) -> int:
        """The place of what ``held`` make of a unit's runs; -1 for none."""
        if not held:
            return -1
        key = n, tuple(incident.name for incident in held)
        if key not in self._places:
            self._places[key] = len(self._rows)
            self._rows.append((unit, held))
        return self._places[key]

    def records(self) -> Any:
        """A record for each: factors multiply, of the rest the last one named wins."""
        found = layout.records(records.Condition, len(self._rows))
        for record, (unit, held) in zip(found, self._rows, strict=False):
            record["times"] = np.prod([1.0 if i.run_times is None else i.run_times for i in held])
            record["error_rate"] = next((i.error_rate for i in reversed(held) if i.error_rate is not None), -1.0)
            record["run_kind"] = -1
            last = next((i for i in reversed(held) if i.run is not None), None)
            if last is not None and last.run is not None:
                self._shared.spread(record, "run", last.run)
                record["random"] = self._stream(unit, last.name)
        return found

    def _stream(self, unit: Unit, incident: str) -> int:
        key = self._shared.unit_at[unit.function, unit.environment], incident
        if key not in self._streams:
            labels = (f"{purpose}:{incident}:{unit.function}:{unit.environment}" for purpose in _PURPOSES)
            self._streams[key] = self._shared.stream(*labels)
        return self._streams[key]
