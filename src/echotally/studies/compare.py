"""``compare``: two saved projections: what changed in the inputs, and where the difference of the cost comes from.

Works on the JSON that ``project`` writes, nothing is played again. From the first one's pick to the second one's: another
plan (as the first projection costs it), then volume, run time and mix, and price, each meter billed anew with the plan's
own prices (``rates.price_walk.price_of``); what the steps leave, the rounding of the totals, is "other".
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from decimal import Decimal, localcontext
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from msgspec import Struct
from msgspec.structs import replace
from pydantic import AfterValidator, BaseModel, ConfigDict, ValidationError

from echotally.errors import BadInput, Problem
from echotally.files import text_of, unreadable
from echotally.rates.billing import exact
from echotally.rates.card import Price
from echotally.rates.meters import BY_VOLUME, OUTSIDE
from echotally.rates.price_walk import price_of
from echotally.recognising import mistaken
from echotally.showing import Answer
from echotally.studies.compare_parts import PartChange, SavedPick, part_changes

if TYPE_CHECKING:
    import pandas as pd

FORMS = "a file that 'echotally project --format json -o FILE' wrote"
CAUSES = ("plan", "volume", "run_time", "price", "other")
_LARGEST = 256 * 2**20


class Change(Struct, frozen=True):
    """An input that differs: its address, the value before (None: not there) and after."""

    address: str
    before: str | None
    after: str | None


class MeterChange(Struct, frozen=True):
    """One meter of the two picks: money before and after, and the part of each cause."""

    meter: str
    before: Decimal
    after: Decimal
    volume: Decimal
    run_time: Decimal
    price: Decimal


class PlanChange(Struct, frozen=True):
    """A plan in both projections: its total before and after (None: it cannot be used), targets missed."""

    plan: str
    before: Decimal | None
    after: Decimal | None
    misses_before: int
    misses_after: int


class FunctionChange(Struct, frozen=True):
    """A figure of a function that moved: share throttled, wait p95 (s), cost."""

    function: str
    environment: str
    figure: str
    before: float | None
    after: float | None


class Comparison(Answer, frozen=True):
    """Two projections beside each other; ``causes`` add up to ``after - before`` (what the two picks cost, as shown).

    ``unrounded``: the same two costs before rounding to the minor unit.
    """

    names: tuple[str, str]
    currency: str
    picks: tuple[str | None, str | None]
    before: Decimal
    after: Decimal
    causes: dict[str, Decimal]
    meters: tuple[MeterChange, ...]
    plans: tuple[PlanChange, ...]
    functions: tuple[FunctionChange, ...]
    inputs: tuple[Change, ...]
    notes: tuple[str, ...]
    unrounded: tuple[Decimal, Decimal]
    by: str | None = None
    parts: tuple[PartChange, ...] = ()

    @property
    def share(self) -> Decimal | None:
        """The change as a share of the first, of unrounded costs; None where the first costs nothing."""
        before, after = self.unrounded
        return after / before - 1 if before else None

    def to_frame(self) -> pd.DataFrame:
        """A row for each meter of the two picks (``MeterChange``)."""
        from echotally.projection.tables import frame_of

        return frame_of(self.meters)


def compare(first: Path | str, second: Path | str, *, by: str | None = None) -> Comparison:
    """Compare two saved projections, ``by`` with the parts of the two picks' cost (``part_changes``); raises ``BadInput`` for files that are none, or in two currencies."""
    first, second = Path(first), Path(second)
    a, b = _Saved(first), _Saved(second)
    if a.currency != b.currency:
        raise BadInput(Problem("is in another currency", file=second.name, value=b.currency, allowed=a.currency))
    try:
        with localcontext(exact()):
            found = _compared(a, b)
            return replace(found, by=by, parts=part_changes((_picked(a), _picked(b)), by)) if by else found
    except (KeyError, TypeError, ValueError, ArithmeticError, AttributeError) as error:
        raise BadInput(
            Problem("is not a whole projection", file=f"{first.name} or {second.name}", allowed=FORMS)
        ) from error


def _picked(saved: _Saved) -> SavedPick:
    plan = saved.plans[saved.pick or ""]
    return SavedPick(saved.name, plan, saved.inputs.get("model") or {}, _unrounded(plan))


class _Part(BaseModel):
    """Base of what is looked at in a saved projection: types are checked, not converted; more may be there."""

    model_config = ConfigDict(strict=True, allow_inf_nan=False)


def _within_reason(number: str | float | int) -> str | float | int:
    if abs(Decimal(str(number))) > _MOST:
        raise ValueError("no month has so much of anything")
    return number


#: A quantity or an amount of money, as a number or as text.
_Number = Annotated[str | float | int, AfterValidator(_within_reason)]
_MOST = Decimal(10) ** 30


class _Line(_Part):
    meter: str
    plan: str | None = None
    amount: _Number
    quantity: _Number
    by: dict[str, _Number] | None = None


class _Cost(_Part):
    total: Annotated[str, AfterValidator(_within_reason)]
    lines: list[_Line]


class _Attempts(_Part):
    total: int
    throttled: int


class _Wait(_Part):
    p95: float | int | None


class _FunctionPart(_Part):
    function: str
    environment: str
    attempts: _Attempts
    throttled_share: float | int
    wait_s: _Wait
    cost: _Number


class _PlanPart(_Part):
    plan: str
    cost: _Cost | None
    misses: list[Any] | None = None
    functions: list[_FunctionPart] | None = None


class _CardPart(_Part):
    prices: dict[str, Any] = {}
    allowance: dict[str, _Number] = {}


class _Inputs(_Part):
    model: dict[str, str] | None = None
    cards: dict[str, _CardPart] | None = None


class _Whole(_Part):
    """What a saved projection must hold to be compared."""

    plans: list[_PlanPart]
    currency: str
    month: str | None = None
    seed: int | None = None
    pick: str | None
    closest: str | None = None
    inputs: _Inputs | None = None


class _Saved:
    """A projection read back from its file."""

    def __init__(self, path: Path) -> None:
        self.name = path.name
        self.data = _read(path)
        try:
            _Whole.model_validate(self.data)
            self.plans: dict[str, dict[str, Any]] = {str(plan["plan"]): plan for plan in self.data["plans"]}
            self.currency = str(self.data["currency"])
            self.pick: str | None = self.data["pick"] or self.data.get("closest")
            self.inputs: dict[str, Any] = self.data.get("inputs") or {}
            self.totals = {name: _total(plan) for name, plan in self.plans.items()}
        except (KeyError, TypeError, ValueError, ArithmeticError, AttributeError) as error:
            raise BadInput(Problem("is not a whole projection", file=path.name, allowed=FORMS)) from error

    def lines(self, plan: str) -> dict[tuple[str, str], dict[str, Any]]:
        """The bill of a plan by (plan that bills, meter)."""
        cost = self.plans[plan]["cost"] or {"lines": []}
        return {(str(line.get("plan", plan)), str(line["meter"])): line for line in cost["lines"]}

    def unplayed(self) -> list[str]:
        """The plans whose months were too large, of which nothing is known."""
        return [name for name, plan in self.plans.items() if plan.get("feasible", False) is None]

    def started(self, plan: str) -> dict[str, Decimal]:
        """Attempts that started, by function and environment."""
        return {
            f"{f['function']}@{f['environment']}": Decimal(f["attempts"]["total"] - f["attempts"]["throttled"])
            for f in self.plans[plan]["functions"] or []
        }

    def price(self, plan: str, meter: str) -> tuple[Price | None, Decimal]:
        card = self.inputs.get("cards", {}).get(plan, {})
        found = card.get("prices", {}).get(meter)
        try:
            price = Price.model_validate(found) if found else None
        except ValidationError as error:
            raise BadInput(Problem("has a price that cannot be read", file=self.name, value=str(found)[:80])) from error
        return price, Decimal(str(card.get("allowance", {}).get(meter, 0)))


def _read(path: Path) -> dict[str, Any]:
    try:
        found = json.loads(text_of(path, _LARGEST, errors="strict"))
    except OSError as error:
        raise unreadable(path, error, FORMS) from error
    except (ValueError, RecursionError) as error:
        other = mistaken(path, "projection")
        raise BadInput(other or Problem("is not JSON", file=path.name, allowed=FORMS)) from error
    if not isinstance(found, dict) or found.get("schema") != "echotally-projection/1":
        seen = str(found.get("schema")) if isinstance(found, dict) else type(found).__name__
        other = mistaken(path, "projection")
        raise BadInput(other or Problem("is not a projection", file=path.name, value=seen, allowed=FORMS))
    return found


def _total(plan: dict[str, Any]) -> Decimal | None:
    """What is shown for a plan: its rounded total, or below 1 the unrounded (as ``MonthlyBill.shown``)."""
    if not plan["cost"]:
        return None
    total = Decimal(plan["cost"]["total"])
    return total if total >= 1 else _unrounded(plan)


def _unrounded(plan: dict[str, Any]) -> Decimal:
    return (
        sum((Decimal(str(line["amount"])) for line in plan["cost"]["lines"]), Decimal(0))
        if plan["cost"]
        else Decimal(0)
    )


def _compared(a: _Saved, b: _Saved) -> Comparison:
    notes: list[str] = []
    if a.pick is None or b.pick is None:
        raise BadInput(Problem("has no plan that can run the estate", file=(b if a.pick else a).name))
    before, after = a.totals[a.pick] or Decimal(0), b.totals[b.pick] or Decimal(0)
    start = b.pick if a.totals.get(b.pick) is not None else a.pick
    if start != b.pick:
        notes.append(f"{b.pick} has no cost in {a.name}; the move to it counts as price and mix")
    at_start = a.totals[start] or Decimal(0)
    meters = tuple(_meters(a, start, b, b.pick))
    causes = {"plan": at_start - before} | {
        cause: sum((getattr(m, cause) for m in meters), Decimal(0)) for cause in ("volume", "run_time", "price")
    }
    causes["other"] = after - before - sum(causes.values(), Decimal(0))
    if not a.inputs or not b.inputs:
        notes.append("one of the files holds no inputs (an older projection): what changed is not known")
    for saved in (a, b):
        left_out = saved.unplayed()
        if left_out:
            notes.append(f"{saved.name}: not played, and may cost less: {', '.join(left_out)}")
        if saved.data["pick"] is None:
            played = " that was played" if left_out else ""
            notes.append(f"{saved.name}: no plan{played} meets every target; {saved.pick} is the closest")
    for key in ("month", "seed"):
        if a.data.get(key) != b.data.get(key):
            notes.append(f"{key}: {a.data.get(key)} and {b.data.get(key)}")
    plans = tuple(
        PlanChange(name, a.totals.get(name), b.totals.get(name), _misses(a, name), _misses(b, name))
        for name in dict.fromkeys([*a.plans, *b.plans])
    )
    return Comparison(
        (a.name, b.name),
        a.currency,
        (a.pick, b.pick),
        before,
        after,
        causes,
        meters,
        plans,
        tuple(_functions(a, b)),
        tuple(_inputs(a, b)),
        tuple(notes),
        (_unrounded(a.plans[a.pick]), _unrounded(b.plans[b.pick])),
    )


def _misses(saved: _Saved, plan: str) -> int:
    return len(saved.plans.get(plan, {}).get("misses") or [])


def _meters(a: _Saved, plan_a: str, b: _Saved, plan_b: str) -> Iterable[MeterChange]:
    ours, theirs = a.lines(plan_a), b.lines(plan_b)
    before, after = a.started(plan_a), b.started(plan_b)
    ratios = {name: after.get(name, Decimal(0)) / n for name, n in before.items() if n}
    for key in dict.fromkeys([*ours, *theirs]):
        yield _meter(a, key, ours.get(key), theirs.get(key), ratios)


def _meter(
    a: _Saved,
    key: tuple[str, str],
    mine: dict[str, Any] | None,
    other: dict[str, Any] | None,
    ratios: Mapping[str, Decimal],
) -> MeterChange:
    """Four bills of one meter: before; with the new volume of each function; with the new quantity; after."""
    before, after = (Decimal(str(x["amount"])) if x else Decimal(0) for x in (mine, other))
    quantity_a, quantity_b = (Decimal(str(x["quantity"])) if x else Decimal(0) for x in (mine, other))
    price, free = a.price(*key)
    if key[1].startswith(OUTSIDE) and quantity_a and other is not None:
        # Uses follow events, whoever bills them.
        at_volume = before * quantity_b / quantity_a
        return MeterChange(key[1], before, after, at_volume - before, Decimal(0), after - at_volume)
    if price is None or mine is None:
        return MeterChange(key[1], before, after, Decimal(0), Decimal(0), after - before)

    def billed(quantity: Decimal) -> Decimal:
        return price_of(price, max(Decimal(0), quantity - min(quantity, free)))

    # Accounts of their own have allowances of their own: what that leaves is carried along unchanged.
    rest = before - billed(quantity_a)
    scaled = quantity_a
    if key[1] in BY_VOLUME:
        shares = {str(name): Decimal(str(q)) for name, q in (mine.get("by") or {}).items()}
        scaled += sum((q * (ratios.get(name, Decimal(1)) - 1) for name, q in shares.items()), Decimal(0))
    at_volume, at_quantity = billed(scaled) + rest, billed(quantity_b) + rest
    return MeterChange(key[1], before, after, at_volume - before, at_quantity - at_volume, after - at_quantity)


def _functions(a: _Saved, b: _Saved) -> Iterable[FunctionChange]:
    """Figures of functions on the picks that moved by more than a hundredth."""
    tables = []
    for saved in (a, b):
        rows = saved.plans[saved.pick or ""]["functions"] or []
        tables.append({(str(f["function"]), str(f["environment"])): f for f in rows})
    for key in dict.fromkeys([*tables[0], *tables[1]]):
        old, new = (t.get(key) for t in tables)
        for figure, pick in (("throttled share", _throttled), ("wait p95 (s)", _wait), ("cost", _cost)):
            before, after = (pick(x) if x else None for x in (old, new))
            if before != after and (not before or not after or abs(after / before - 1) > 0.01):
                yield FunctionChange(*key, figure, before, after)


def _throttled(function: dict[str, Any]) -> float:
    return float(function["throttled_share"])


def _wait(function: dict[str, Any]) -> float | None:
    found = function["wait_s"]["p95"]
    return None if found is None else float(found)


def _cost(function: dict[str, Any]) -> float:
    return float(function["cost"])


def _inputs(a: _Saved, b: _Saved) -> Iterable[Change]:
    pairs = [
        (saved.inputs.get("model") or {})
        | {
            f"{plan}.{part}.{meter}": json.dumps(value) if not isinstance(value, str) else value
            for plan, card in (saved.inputs.get("cards") or {}).items()
            for part in ("prices", "allowance")
            for meter, value in card.get(part, {}).items()
        }
        for saved in (a, b)
    ]
    for address in dict.fromkeys([*pairs[0], *pairs[1]]):
        before, after = pairs[0].get(address), pairs[1].get(address)
        if before != after:
            yield Change(address, before, after)
