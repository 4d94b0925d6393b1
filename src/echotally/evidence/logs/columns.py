"""Which column of a log is which: told, or guessed from the headings, with the unit each name ends in."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches

from echotally.errors import BadInput, Problem

#: What a run log can tell, and headings it is known by (lower case, words joined by one underscore, no unit).
KNOWN: dict[str, tuple[str, ...]] = {
    "time": ("time", "timestamp", "start", "started", "start_time", "started_at", "begin", "ts", "at", "date"),
    "function": ("function", "function_name", "name", "job", "service"),
    "environment": ("environment", "env", "stage"),
    "run": ("run", "duration", "run_time", "runtime", "elapsed", "time_taken", "took", "execution_time"),
    "cold_start": ("cold_start", "cold", "init", "init_time", "start_up", "startup", "startup_time"),
    "billed": ("billed", "time_billed", "billed_time", "billed_duration"),
    "memory": ("memory", "memory_size", "memory_given", "memory_limit", "memory_allocated"),
    "memory_used": ("memory_used", "used_memory", "memory_peak", "peak_memory", "max_memory_used"),
    "outcome": ("outcome", "status", "result", "state"),
    "events": ("events", "items", "batch", "batch_size", "records", "messages"),
    "id": ("id", "call_id", "request_id", "attempt_id", "run_id"),
}
REQUIRED = ("time", "run")
#: How alike a heading and a known name are (difflib's ratio) for it to be a likely slip.
_CLOSE = 0.8
_MS = {"ns": 1e-6, "us": 1e-3, "ms": 1.0, "millis": 1.0, "s": 1e3, "sec": 1e3, "seconds": 1e3, "min": 6e4}
_MB = {"b": 2.0**-20, "bytes": 2.0**-20, "kb": 2.0**-10, "mb": 1.0, "gb": 1024.0}
#: Units by name that a heading or a value may carry, as factors to ms or binary MB.
UNITS: dict[str, Mapping[str, float]] = {
    **dict.fromkeys(("run", "cold_start", "billed"), _MS),
    **dict.fromkeys(("memory", "memory_used"), _MB),
}


@dataclass(frozen=True)
class Mapped:
    """One of our columns: the heading it is read from, the factor of bare numbers, whether the unit was assumed."""

    ours: str
    theirs: str
    factor: float = 1.0
    unit: str = ""
    assumed: bool = False
    guessed: bool = True

    def __str__(self) -> str:
        unit = f" in {self.unit}" + (", assumed" if self.assumed else "") if self.unit else ""
        return f"{self.ours} from '{self.theirs}'{unit}" + ("" if self.guessed else " (as told)")


def map_columns(headings: Sequence[str], told: Iterable[tuple[str, str]], file: str) -> dict[str, Mapped]:
    """Our columns found among ``headings``; ``told`` are (ours, theirs) pairs that override a guess.

    Raises ``BadInput`` for an unknown name on either side, or if time or run is not found.
    """
    found: dict[str, Mapped] = {}
    problems: list[Problem] = []
    for ours, theirs in told:
        if ours not in KNOWN:
            problems.append(Problem("is not a column we read", "--column", value=ours, allowed=", ".join(KNOWN)))
        elif theirs not in headings:
            known = (
                ", ".join(headings)
                if any(_matches(o, h, names) for o, names in KNOWN.items() for h in headings)
                else ""
            )
            problems.append(Problem("has no such column", file=file, value=theirs, allowed=known))
        else:
            found[ours] = _mapped(ours, theirs, guessed=False)
    taken = {each.theirs for each in found.values()}
    for ours, names in KNOWN.items():
        near = [h for h in headings if h not in taken and _matches(ours, h, names)]
        if ours not in found and near:
            best = min(near, key=lambda h: (names.index(_bare(ours, h)), headings.index(h)))
            found[ours] = _mapped(ours, best, guessed=True)
            taken.add(best)
    for ours in REQUIRED:
        if ours not in found and not problems:
            text = f"has no column known as {ours}"
            # Headings none of which we know may be anything, and are not repeated.
            known = f", with one of {', '.join(headings)}" if found else ""
            problems.append(Problem(text, file=file, allowed=f"--column {ours}=HEADING{known}"))
    if problems:
        raise BadInput(problems)
    return found


def nearly_known(headings: Sequence[str], mapped: Mapping[str, Mapped]) -> list[tuple[str, str]]:
    """Headings that are not read although they are close to a name we know: (heading, our column)."""
    taken = {each.theirs for each in mapped.values()}
    names = {name: ours for ours, known in KNOWN.items() if ours not in mapped for name in known if len(name) > 3}
    found = []
    for heading in headings:
        near = get_close_matches("_".join(_words(heading)), names, 1, _CLOSE) if heading not in taken else []
        found += [(heading, names[near[0]])] if near else []
    return found


def _words(heading: str) -> list[str]:
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", heading)
    return [word for word in re.split(r"[^a-z0-9]+", spaced.lower()) if word]


def _bare(ours: str, heading: str) -> str:
    """The heading without its unit, words joined by one underscore."""
    words = _words(heading)
    if len(words) > 1 and words[-1] in UNITS.get(ours, {}):
        words = words[:-1]
    return "_".join(words)


def _matches(ours: str, heading: str, names: tuple[str, ...]) -> bool:
    return _bare(ours, heading) in names


def _mapped(ours: str, heading: str, guessed: bool) -> Mapped:
    units = UNITS.get(ours)
    if units is None:
        return Mapped(ours, heading, guessed=guessed)
    words = _words(heading)
    if len(words) > 1 and words[-1] in units:
        name = words[-1] if units is _MS else words[-1].upper()
        return Mapped(ours, heading, units[words[-1]], name, guessed=guessed)
    return Mapped(ours, heading, 1.0, "ms" if units is _MS else "MB", assumed=True, guessed=guessed)
