"""A model in the making: values by address with what they rest on, and the text of the model file they become."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import datetime
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from echotally.evidence.fit.estimates import Estimate, Spread
from echotally.evidence.survey.facts import Change, Trouble, Unknown, Value, short
from echotally.evidence.survey.mixtures import Kind
from echotally.model.addresses import address_parts, key_of, table_of

#: The order of tables in a model file.
_ORDER = (
    "estate",
    "defaults",
    "functions",
    "schedules",
    "queues",
    "streams",
    "topics",
    "endpoints",
    "folders",
    "demand",
    "triggers",
    "outside",
    "incidents",
    "environments",
    "targets",
)
_ARRAYS = ("triggers", "incidents")
#: Comments that would make a line longer stand above it.
_WIDE = 118


class Draft(Struct):
    """What a survey makes: values in the order found, files of samples beside them, and everything it has doubts about."""

    values: list[Value] = field(default_factory=list)
    files: dict[str, str] = field(default_factory=dict)
    notes: dict[str, list[str]] = field(default_factory=dict)
    unknowns: list[Unknown] = field(default_factory=list)
    changes: list[Change] = field(default_factory=list)
    troubles: list[Trouble] = field(default_factory=list)
    #: Where something stands, and the tables around it.
    taken: set[str] = field(default_factory=set)

    def add(self, address: str, toml: str, evidence: str = "", **more: object) -> None:
        """Put a value at an address; an address that ends in a dot is a table with nothing in it."""
        self.values.append(Value(address, toml, evidence, **more))  # type: ignore[arg-type]
        self.taken.update((address, *(address[:place] for place, sign in enumerate(address) if sign == ".")))

    def estimate(self, address: str, toml: str, found: Estimate, n: int, unit: str, evidence: str = "") -> None:
        """Put an estimated value at an address."""
        self.add(address, toml, evidence, n=n, number=found.value, low=found.low, high=found.high, unit=unit)

    def note(self, table: str, text: str) -> None:
        """Say something about a table, above it."""
        self.notes.setdefault(table, []).append(text)

    def has(self, address: str) -> bool:
        """Whether a value stands at an address, or below it."""
        return address in self.taken

    def text(self, head: str) -> str:
        """The model file."""
        tables: dict[str, list[Value]] = {}
        for value in self.values:
            table, _, _ = value.address.rpartition(".")
            tables.setdefault(table, []).append(value)
        lines = [*(f"# {line}".rstrip() for line in head.splitlines()), 'schema = "echotally-model/1"']
        ordered = sorted(tables, key=lambda name: _ORDER.index(name.split(".")[0]))
        for name in ordered:
            first = name.split(".")[0]
            lines.append("")
            lines += [f"# {note}" for note in self.notes.get(name, ())]
            lines.append("[[" + first + "]]" if first in _ARRAYS else "[" + table_of(address_parts(name)) + "]")
            lines += [line for value in tables[name] for line in _lines(value)]
        return "\n".join(lines) + "\n"


def _lines(value: Value) -> Iterable[str]:
    key = value.address.rpartition(".")[2]
    if not key:
        return
    line, comment = f"{key_of(key)} = {value.toml}", value.comment
    if not comment:
        yield line
    elif len(line) + len(comment) + 4 <= _WIDE:
        yield f"{line}  # {comment}"
    else:
        yield f"# {key}: {comment}"
        yield line


def text_of(text: str) -> str:
    """A text as TOML."""
    return json.dumps(text, ensure_ascii=False)


def ms(value: float) -> str:
    """A time in ms as TOML, in the unit a person would use."""
    if value >= 60_000 and round(value) % 60_000 == 0:
        return f'"{round(value) // 60_000} min"'
    if value >= 10_000 or (value >= 1_000 and round(value) % 1_000 == 0):
        return f'"{short(value / 1_000)} s"'
    return f'"{short(value)} ms"'


def spread_toml(found: Spread, kinds: tuple[Kind, ...], file: str, files: dict[str, str]) -> str:
    """A spread of times as TOML; samples go into a file of their own."""
    if kinds:
        parts = []
        shares = [float(f"{kind.share:.4g}") for kind in kinds]
        shares[0] = round(1 - sum(shares[1:]), 10)
        for share, kind in zip(shares, kinds, strict=True):
            if kind.p95.value <= kind.median.value * 1.005:
                parts.append(f"{{ share = {share}, constant = {ms(kind.median.value)} }}")
            else:
                parts.append(f"{{ share = {share}, median = {ms(kind.median.value)}, p95 = {ms(kind.p95.value)} }}")
        return "{ mix = [" + ", ".join(parts) + "] }"
    if found.kind == "constant" or found.p95.value <= found.median.value * 1.0005:
        return ms(found.median.value)
    if found.kind == "log-normal":
        return f"{{ median = {ms(found.median.value)}, p95 = {ms(found.p95.value)} }}"
    files[file] = "ms\n" + "".join(f"{value:.6g}\n" for value in found.samples)
    return f"{{ samples = {text_of(file)} }}"


def rate_toml(per_s: float) -> str:
    """Events a second as TOML, in the unit that gives a number of at least one."""
    for unit, seconds in (("/s", 1), ("/min", 60), ("/h", 3_600)):
        if per_s * seconds >= 1:
            return f'"{_six(per_s * seconds)} {unit}"'
    return f'"{_six(per_s * 86_400)} /d"'


def _six(value: float) -> str:
    """Six significant digits: a rate makes a month's count, of which four would lose some."""
    return (
        f"{value:.6g}"
        if 1e-4 < value < 1e6
        else f"{value:.0f}"
        if value >= 1e6
        else f"{value:.10f}".rstrip("0").rstrip(".") or "0"
    )


def local_time(at_s: float, zone: ZoneInfo) -> str:
    """An instant as local time in TOML."""
    from datetime import UTC

    local = datetime.fromtimestamp(at_s, UTC).astimezone(zone)
    return f'"{local:%Y-%m-%dT%H:%M}"'


def span_toml(seconds: float) -> str:
    """A length of time as TOML."""
    for unit, size in (("d", 86_400), ("h", 3_600), ("min", 60)):
        if seconds >= size and seconds % size == 0:
            return f'"{seconds / size:.0f} {unit}"'
    return f'"{short(seconds)} s"'
