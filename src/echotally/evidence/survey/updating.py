"""A survey of a model that stands: which of its values have drifted from what the log shows, and what is new.

Only values that the log gives are looked at; comments, order and keys made by hand stay as they are.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from datetime import UTC, datetime
from itertools import takewhile
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import tomlkit
from msgspec import Struct
from msgspec.structs import replace

from echotally.demand.cron import firings_after, parse_cron
from echotally.errors import BadInput, Problem
from echotally.evidence.survey.draft import Draft
from echotally.evidence.survey.facts import Value
from echotally.evidence.survey.made import Survey
from echotally.files import scratch, write_whole
from echotally.files import text_of as content
from echotally.model.addresses import parts_in
from echotally.model.estate import Demand, Function, Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.spread import Spread
from echotally.model.writing import with_values
from echotally.projection.loaded import Loaded, load
from echotally.rates.card_loading import Offer

#: Values without an interval have moved where they differ by more than this.
_MORE = 0.02
#: Prices worked out from costs differ in their last digits.
_PRICES_APART = 1e-6
_KEYS = (
    "memory",
    "memory_used",
    "run",
    "per_item",
    "per_mb",
    "cold_start",
    "timeout",
    "error_rate",
    "slots",
    "instance_limit",
    "log_bytes",
    "reply_bytes",
    "package",
)


#: What makes up a run's time.
_PARTS = ("run", "per_item", "per_mb")


class Moved(Struct, frozen=True):
    """A value of the model that the log no longer bears out: before and after, as TOML, and the interval it left."""

    address: str
    before: str
    after: str
    why: str


class Updated(Struct, frozen=True):
    """The model's new text, what moved in it, functions that are new, and what the log says but the model has no place for."""

    text: str
    moved: tuple[Moved, ...]
    added: tuple[str, ...]
    notes: tuple[str, ...]


def updated(made: Survey, path: Path, standing: Loaded) -> Updated:
    """The model at ``path`` with the values that a survey found to have drifted. Raises ``BadInput``."""
    found = _Updater(made, path, standing.model).updated()
    return replace(found, notes=(*found.notes, *_card_moves(made, standing.offers)))


class _Updater:
    def __init__(self, made: Survey, path: Path, model: Model) -> None:
        self.made, self.model = made, model
        self.text = content(path)
        self.document = tomlkit.parse(self.text)
        self.values = made.values
        self.moved: list[Moved] = []
        self.notes: list[str] = []

    def updated(self) -> Updated:
        for name in self.made.functions:
            if name in self.model.functions:
                self._function(name, self.model.functions[name])
                self._fed(name)
        # What the log lacks stays: a job of once a quarter is in no log of a week.
        added = [name for name in self.made.functions if name not in self.model.functions]
        gone = [name for name in self.model.functions if name not in self.made.functions]
        if gone:
            self.notes.append(f"in the model but not in the log: {', '.join(gone)}; they stay as they are")
        text = with_values(self.text, [(m.address, m.after) for m in self.moved]) if self.moved else self.text
        for name in added:
            text = _with_tables(text, self._whole(name))
        return Updated(text, tuple(self.moved), tuple(added), tuple(self.notes))

    def _function(self, name: str, function: Function) -> None:
        why = self._incomparable(name, function)
        if why:
            self.notes.append(f"{name}: its run time, since {why}; `fit` lays it beside the log")
        for key in _KEYS if not why else [key for key in _KEYS if key not in _PARTS]:
            value = self.values.get(f"functions.{name}.{key}")
            # A guess never takes the place of what somebody wrote.
            if value is not None and not value.guess and value.number is not None:
                # Without an interval a time is the mean of a histogram.
                before = _number(key, getattr(function, key), mean=value.low is None)
                written = self._written(value.address)
                if "samples" in value.toml or value.toml == written:
                    continue
                if before is None or _left(before, value):
                    self.moved.append(Moved(value.address, written, value.toml, value.comment))

    def _incomparable(self, name: str, function: Function) -> str:
        """Why the log's run time cannot take the place of the model's by itself; empty where it can."""
        if function.measured_at not in (None, function.memory) or function.measured_vcpu is not None:
            return "the model gives it for another size than it ran at"
        parts = [key for key in _PARTS[1:] if getattr(function, key) and f"functions.{name}.{key}" not in self.values]
        return f"the log does not tell {' and '.join(parts)} apart from it" if parts else ""

    def _written(self, address: str) -> str:
        """What the file says at an address, as TOML."""
        found: Any = self.document
        for part in parts_in(self.document, address):
            if not isinstance(found, dict) or part not in found:
                return "(not said)"
            found = found[part]
        return str(found.as_string()) if hasattr(found, "as_string") else json.dumps(found)

    def _fed(self, name: str) -> None:
        """The rates and schedules of what sets a function off."""
        mine = [t.from_ for t in self.model.triggers if t.to == name]
        for found in self._sources(name):
            same = [source for source in mine if source.kind is found.kind]
            if len(same) != 1:
                self.notes.append(
                    f"{name}: comes by {found} in the log, and by {', '.join(mine) or 'nothing'} in the model"
                )
                continue
            if found.kind is SourceKind.SCHEDULES:
                self._schedule(found, same[0])
            else:
                self._rate(name, found, same[0])

    def _sources(self, name: str) -> list[SourceRef]:
        found = []
        for address, value in self.values.items():
            if address.startswith("triggers.") and address.endswith(".to") and value.toml == f'"{name}"':
                found.append(SourceRef(self.values[address.replace(".to", ".from")].toml.strip('"')))
        return found

    def _schedule(self, found: SourceRef, own: SourceRef) -> None:
        value, schedule = self.values.get(f"{found}.cron"), self.model.schedules[own.name]
        if value is None or schedule.cron is None:
            return
        guess = next((f.guesses.get(str(found)) for f in self.made.functions.values() if str(found) in f.guesses), None)
        # Several expressions may fire at the times seen; whichever the file has is left.
        known = {value.toml.strip('"'), *(each.split(" in ")[0] for each in (guess.also if guess else ()))}
        zone = str(schedule.timezone or self.model.estate.timezone)
        same = guess is not None and self._firings(schedule.cron, zone) == self._firings(str(guess.cron), guess.zone)
        if schedule.cron not in known and not same:
            self.moved.append(Moved(f"{own}.cron", f'"{schedule.cron}"', value.toml, value.comment))

    def _firings(self, cron: str, zone: str) -> list[float]:
        """When an expression fired while the log was written."""
        first, last = (datetime.fromtimestamp(at, UTC) for at in self.made.span)
        return [
            at.timestamp()
            for at in takewhile(lambda at: at <= last, firings_after(parse_cron(cron), ZoneInfo(zone), first))
        ]

    def _rate(self, name: str, found: SourceRef, own: SourceRef) -> None:
        place = next(
            (
                a
                for a, v in self.values.items()
                if a.startswith("demand.") and a.endswith(".into") and v.toml == f'"{found}"'
            ),
            None,
        )
        feeding = [key for key, demand in self.model.demand.items() if demand.into == own]
        if place is None or not feeding:
            return
        rate = self.values[place.replace(".into", ".rate")]
        before = [self.model.demand[key] for key in feeding]
        # A log shows what came, not which of several demands it was.
        if len(feeding) > 1 or before[0].rate is None:
            self.notes.append(
                f"{name}: {rate.toml} in the log; {', '.join(f'demand.{key}' for key in feeding)} says it otherwise, and stays"
            )
            return
        per_h = _per_h(before[0])
        if per_h is not None and _left(per_h, rate):
            self.moved.append(Moved(f"demand.{feeding[0]}.rate", f'"{per_h:.6g} /h"', rate.toml, rate.comment))

    def _whole(self, name: str) -> str:
        """A function that the model lacks, with what sets it off, as text."""
        sources = {str(source) for source in self._sources(name)}
        part = Draft(notes=self.made.draft.notes)
        triggers = [
            a[: -len(".to")]
            for a, v in self.values.items()
            if a.startswith("triggers.") and a.endswith(".to") and v.toml == f'"{name}"'
        ]
        demands = [
            a[: -len(".into")]
            for a, v in self.values.items()
            if a.startswith("demand.") and a.endswith(".into") and v.toml.strip('"') in sources
        ]
        tables = [f"functions.{name}", *sources, *triggers, *demands]
        for value in self.made.draft.values:
            table = value.address.rpartition(".")[0]
            there = table in sources and self._there(table)
            if table in tables and not there:
                part.values.append(value)
        whole = part.text("")
        return whole[whole.index("\n[") + 1 :] if "\n[" in whole else whole

    def _there(self, address: str) -> bool:
        ref = SourceRef(address)
        return ref.name in getattr(self.model, ref.kind.value)


def _with_tables(text: str, more: str) -> str:
    """A model with more tables: triggers behind its last one, since pieces of a list that lie apart are put together when the
    file is next written, the rest at its end.
    """
    blocks = more.strip().split("\n\n")
    triggers = [block for block in blocks if "[[triggers]]" in block]
    rest = [block for block in blocks if block not in triggers]
    lines = text.rstrip().split("\n")
    last = max((n for n, line in enumerate(lines) if line.strip().startswith("[[triggers]]")), default=None)
    if last is None or not triggers:
        return "\n\n".join([text.rstrip(), *rest, *triggers]) + "\n"
    end = next((n for n in range(last + 1, len(lines)) if lines[n].startswith("[")), len(lines))
    # Comments and blank lines above the next table belong to it.
    while end > last + 1 and (not lines[end - 1].strip() or lines[end - 1].startswith("#")):
        end -= 1
    inside = "\n".join(lines[:end]) + "\n\n" + "\n\n".join(triggers)
    behind = "\n".join(lines[end:]).strip("\n")
    return "\n\n".join(part for part in (inside, behind, *rest) if part) + "\n"


#: Lengths of time, which a model holds in ns and a survey in ms.
_TIMES = ("per_item", "per_mb", "timeout")


def _number(key: str, found: object, mean: bool = False) -> float | None:
    """A key of a function as a survey counts it: ms, MB, bytes, or a bare number; of a spread its median, or its mean."""
    if isinstance(found, Spread):
        return (found.mean if mean else found.quantile(0.5)) / 1e6
    if not isinstance(found, int | float):
        return None
    return float(found) / 1e6 if key in _TIMES else float(found)


def _left(before: float, value: Value) -> bool:
    """Whether a value of the model lies outside what the log bears out."""
    assert value.number is not None
    low = value.low if value.low is not None else value.number
    high = value.high if value.high is not None else value.number
    # A bare mean of n may be off by chance as well: two deviations of as much as itself, over the root of n.
    chance = 2 / math.sqrt(value.n) if value.low is None and value.n else 0.0
    wide = max(_MORE, chance) * max(abs(low), abs(high))
    return not low - wide <= before <= high + wide


def _per_h(demand: Demand) -> float | None:
    if demand.rate is None:
        return None
    return float(demand.rate) * 3_600


def _card_moves(made: Survey, offers: Mapping[str, Offer]) -> list[str]:
    """First unit prices on the bill that are not those of the model's plan of that name, in words."""
    offer = offers.get(made.card.full)
    if made.card.placeholder or offer is None:
        return []
    found = []
    for meter, unit in made.card.prices.items():
        price = offer.plan.price.get(meter)
        own = (price.tiers[0].unit if price.tiers else price.unit) if price is not None else None
        if price is not None and own is not None and abs(float(unit) * price.per / float(own or 1) - 1) > _PRICES_APART:
            found.append(
                f"{meter}: {own} for {price.per:,} on the card, {float(unit) * price.per:.9g} on the bill; the card stays"
            )
    return found


def hold_folder(folder: Path, head: str) -> None:
    """Raise ``BadInput`` where a folder holds a model that no survey made: nothing of anybody's is written over."""
    model = folder / "model.toml"
    if model.exists() and head not in content(model)[:200]:
        allowed = "another folder, or --model to bring a model up to date"
        raise BadInput(Problem("is already there, and was not made by a survey", file=str(model), allowed=allowed))


def try_update(model: Path, changed: Updated, files: dict[str, str]) -> None:
    """Load the new text beside the files the model reads; raises ``BadInput`` where it would not load."""
    with scratch() as folder:
        _laid_out(model, folder, changed, files)
        load(folder / model.name)


def write_update(model: Path, folder: Path, changed: Updated, files: dict[str, str]) -> list[str]:
    """Write the new text as ``model.toml`` into a folder, with the files it reads; returns what was written."""
    if folder.resolve() == model.parent.resolve():
        for name, text in files.items():
            if name.endswith(".csv"):
                write_whole(folder / name, text.encode())
        write_whole(model, changed.text.encode())
        return [str(model)]
    written = _laid_out(model, folder, changed, files)
    place = folder / "model.toml"
    if place != written[-1]:
        written[-1].rename(place)
        written[-1] = place
    return [str(path) for path in written]


def _laid_out(model: Path, folder: Path, changed: Updated, files: dict[str, str]) -> list[Path]:
    """The model and all it reads, laid out in another folder as they lie in its own."""
    document = tomlkit.parse(changed.text)
    written = []
    for name in _read_files(document):
        source, place = model.parent / name, folder / name
        if Path(name).is_absolute() or ".." in Path(name).parts:
            allowed = f"-o {model.parent}, where the model lies"
            raise BadInput(
                Problem(
                    "reads a file outside its folder, which cannot be laid out anew",
                    file=str(model),
                    value=name,
                    allowed=allowed,
                )
            )
        place.parent.mkdir(parents=True, exist_ok=True)
        write_whole(place, source.read_bytes())
        written.append(place)
    for name, text in files.items():
        if name.endswith(".csv"):
            write_whole(folder / name, text.encode())
            written.append(folder / name)
    write_whole(folder / model.name, changed.text.encode())
    return [*written, folder / model.name]


def _read_files(document: Any) -> list[str]:
    """The files a model names: rate cards, traces, samples."""
    found = [str(name) for name in document.get("estate", {}).get("rate_cards", [])]

    def look(value: Any) -> None:
        if isinstance(value, dict):
            for key, each in value.items():
                if key in ("trace", "samples") and isinstance(each, str):
                    found.append(str(each))
                else:
                    look(each)
        elif isinstance(value, list):
            for each in value:
                look(each)

    look(document)
    return list(dict.fromkeys(found))
