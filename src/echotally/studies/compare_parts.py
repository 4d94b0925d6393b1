"""Whose cost moved: two saved projections split ``--by`` function, environment, tag or what they were saved with."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from decimal import Decimal
from typing import Any

from msgspec import Struct

from echotally.errors import BadInput, Problem
from echotally.model.addresses import address_parts
from echotally.projection.showback import FLAT, IDLE, UNTAGGED, splits_of

#: What rounding to six decimals in a file may leave over, a function.
_LEFT_OVER = Decimal("0.000001")


class PartChange(Struct, frozen=True):
    """A part of the two picks' cost (money, as saved with six decimals): a label for each split, before and after."""

    labels: tuple[str, ...]
    before: Decimal
    after: Decimal


def part_changes(saved: tuple[SavedPick, SavedPick], by: str) -> tuple[PartChange, ...]:
    """Every part of either pick, the largest change first; raises ``BadInput`` where a file does not hold the split."""
    splits = splits_of(by)
    before, after = (pick.parts(splits) for pick in saved)
    nothing = Decimal(0)
    found = [PartChange(k, before.get(k, nothing), after.get(k, nothing)) for k in dict.fromkeys([*before, *after])]
    return tuple(sorted(found, key=lambda part: (-abs(part.after - part.before), part.labels)))


class SavedPick(Struct, frozen=True):
    """The pick of a saved projection: its file's name, the plan's data, the model's values by address, its unrounded cost."""

    file: str
    plan: Mapping[str, Any]
    values: Mapping[str, str]
    cost: Decimal

    def parts(self, splits: tuple[str, ...]) -> dict[tuple[str, ...], Decimal]:
        """Cost by labels; idle and flat cost under names of their own."""
        if all(split in ("function", "environment") or split.startswith("tag:") for split in splits):
            return self._of_functions(splits)
        rows = self.plan.get("showback") or []
        if not rows or set(rows[0]) - {"events", "cost"} != set(splits):
            what, allowed = "does not hold this split", f"a file saved with 'project --by {','.join(splits)}'"
            raise BadInput(Problem(what, file=self.file, value=",".join(splits), allowed=allowed))
        return _summed((tuple(str(row[split]) for split in splits), Decimal(str(row["cost"]))) for row in rows)

    def _of_functions(self, splits: tuple[str, ...]) -> dict[tuple[str, ...], Decimal]:
        tags = self._tags()
        owner: dict[str, Callable[[Mapping[str, Any]], str]] = {
            "function": lambda row: str(row["function"]),
            "environment": lambda row: str(row["environment"]),
        }

        def labels(row: Mapping[str, Any]) -> tuple[str, ...]:
            return tuple(
                owner[split](row)
                if split in owner
                else tags.get((str(row["function"]), split.removeprefix("tag:")), UNTAGGED)
                for split in splits
            )

        rows = self.plan.get("functions") or []
        found = _summed((labels(row), Decimal(str(row["cost"]))) for row in rows)
        idle = Decimal(str((self.plan.get("cost") or {}).get("idle", 0)))
        flat = self.cost - sum(found.values(), Decimal(0)) - idle
        rest = {IDLE: idle, FLAT: flat}
        return found | {(k,) * len(splits): v for k, v in rest.items() if abs(v) > _LEFT_OVER * (len(rows) + 1)}

    def _tags(self) -> dict[tuple[str, str], str]:
        """The value of each function's tag, by function and tag."""
        found = {}
        for address, value in self.values.items():
            parts = address_parts(address)
            if len(parts) == 4 and parts[0] == "functions" and parts[2] == "tags":
                found[parts[1], parts[3]] = value
        return found


def _summed(parts: Iterable[tuple[tuple[str, ...], Decimal]]) -> dict[tuple[str, ...], Decimal]:
    found: dict[tuple[str, ...], Decimal] = {}
    for labels, cost in parts:
        found[labels] = found.get(labels, Decimal(0)) + cost
    return found
