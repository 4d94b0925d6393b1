"""What a survey comes to: the model with its evidence, and the files it is written as."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path

from msgspec import field

from echotally.evidence.fit.fit import LogRead
from echotally.evidence.survey.assembly import Found
from echotally.evidence.survey.backtest import (
    Backtest,
    sources_by_function,
)
from echotally.evidence.survey.bills import Billed
from echotally.evidence.survey.card import Card
from echotally.evidence.survey.draft import Draft
from echotally.evidence.survey.environments import Worlds
from echotally.evidence.survey.facts import Change, Unknown, Value
from echotally.evidence.survey.lines import Wiring
from echotally.evidence.survey.tables import Unit
from echotally.files import scratch, write_whole
from echotally.projection.loaded import Loaded, load
from echotally.showing import Answer

HEAD = "Made by `echotally survey`"


class Survey(Answer, frozen=True, dict=True):
    """What a survey found: the model, its card and files as text, each value with what it rests on, and all its doubts."""

    month: str
    zone: str
    log: LogRead
    span: tuple[float, float]
    draft: Draft
    card: Card
    functions: dict[str, Found]
    worlds: Worlds
    wiring: Wiring
    billed: Billed | None
    changes: tuple[Change, ...]
    backtests: tuple[Backtest, ...]
    notes: tuple[str, ...]
    text: str
    scales: dict[Unit, float] = field(default_factory=dict)

    @cached_property
    def values(self) -> dict[str, Value]:
        """The model's values by address."""
        return {value.address: value for value in self.draft.values}

    @cached_property
    def sources(self) -> dict[str, list[str]]:
        """The sources that set functions off, as the model has them; by function."""
        return sources_by_function(self.values)

    @property
    def unknowns(self) -> list[tuple[Unknown, float | None]]:
        """What the data cannot tell, with what it could move in the month's bill, the most first."""
        found = [(each, self._moves(each)) for each in (*self.draft.unknowns, *self.card.unknowns)]
        return sorted(found, key=lambda each: -(each[1] if each[1] is not None else each[0].moves))

    @property
    def unknown_groups(self) -> list[tuple[Unknown, list[str], float | None]]:
        """The same with those of many functions together: one of them, their names, and what they could move in all."""
        groups: dict[tuple[str, str, str], list[tuple[Unknown, float | None]]] = {}
        for unknown, moves in self.unknowns:
            groups.setdefault((unknown.what, unknown.assumed, unknown.how), []).append((unknown, moves))
        found = []
        for group in groups.values():
            moved = [moves for _, moves in group if moves is not None]
            found.append((group[0][0], [u.function for u, _ in group if u.function], sum(moved) if moved else None))
        return sorted(found, key=lambda each: -(each[2] if each[2] is not None else each[0].moves))

    def _moves(self, unknown: Unknown) -> float | None:
        if self.card.placeholder:
            return None
        return unknown.moves * (self.cost_of(unknown.function) if unknown.function else self.cost)

    @property
    def cost(self) -> float:
        """What the log's month comes to, roughly, by the bill or the card's prices."""
        return float(self.billed.total) if self.billed is not None and self.billed.prices else 0.0

    def cost_of(self, function: str) -> float:
        """What a function's rows on the bill cost."""
        found = self.functions.get(function)
        return float(self.billed.spent(found.units[0][0])) if found is not None and self.billed is not None else 0.0

    @property
    def files(self) -> dict[str, str]:
        """The files that make the model, by path within the folder; the model itself last."""
        return {f"rates/{self.card.name}.toml": self.card.text(), **self.draft.files, "model.toml": self.text}


def loaded_from(made: Survey) -> Loaded:
    """The model a survey made, loaded from a folder of its own; raises ``BadInput`` where it does not hold together."""
    with scratch() as folder:
        write_files(made, folder)
        return load(folder / "model.toml")


def write_files(made: Survey, folder: Path) -> list[Path]:
    """Write the model and what belongs to it, the model last; each appears whole or not at all."""
    written = []
    for name, text in made.files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, text.encode())
        written.append(path)
    return written
