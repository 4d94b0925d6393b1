"""What a survey finds, as types: values with their intervals and evidence, functions, what sets them off, what is not known."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from msgspec import Struct, field

from echotally.evidence.fit.estimates import Estimate, Spread


class Value(Struct, frozen=True):
    """A key of the model: its address, its value as TOML, and what it rests on.

    ``low`` and ``high`` bound it with 95 % where it is an estimate (in ``unit``); ``n`` are the observations; ``guess``: it is
    none the data gives, but one taken for want of a better.
    """

    address: str
    toml: str
    evidence: str = ""
    n: int | None = None
    number: float | None = None
    low: float | None = None
    high: float | None = None
    unit: str = ""
    guess: bool = False

    @property
    def comment(self) -> str:
        """What stands behind the value in the model file."""
        parts = []
        if self.low is not None and self.high is not None:
            unit = f" {self.unit}" if self.unit else ""
            parts.append(f"95 %: {short(self.low)} to {short(self.high)}{unit}")
        if self.n is not None:
            parts.append(f"{self.n:,} seen")
        if self.evidence:
            parts.append(self.evidence)
        if self.guess:
            parts.insert(0, "a guess")
        return "; ".join(parts)


def short(value: float) -> str:
    """Four significant digits, never in powers of ten."""
    if value == 0:
        return "0"
    from math import floor, log10

    digits = max(0, 3 - floor(log10(abs(value))))
    text = f"{value:.{digits}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


class Unknown(Struct, frozen=True):
    """What the data cannot tell: of which function ("" the estate), what was assumed, how to find out.

    ``moves`` is what it could move in the month's bill at most, roughly, as a share of the function's cost.
    """

    what: str
    assumed: str
    how: str
    function: str = ""
    moves: float = 0.0


class Change(Struct, frozen=True):
    """A day on which something became otherwise for good: ``what`` (rate, run time, memory, errors), before and after."""

    function: str
    what: str
    at: datetime
    before: float
    after: float
    unit: str
    cause: str = ""

    def __str__(self) -> str:
        by = f" ({self.cause})" if self.cause else ""
        return (
            f"{self.function}: {self.what} from {short(self.before)} to {short(self.after)} {self.unit}".rstrip()
            + f" on {self.at:%Y-%m-%d}{by}"
        )


class Trouble(Struct, frozen=True):
    """A stretch in which a function went wrong: errors, hanging runs or slow ones. Times are UTC."""

    function: str
    environment: str
    kind: str
    at: datetime
    lasts_s: float
    share: float
    usual: float
    n: int


class FunctionFacts(Struct):
    """What is known of one function. Times in ms, memory in MB."""

    name: str
    environments: dict[str, int]
    attempts: dict[str, int]
    events: float
    run: Spread | None
    mixture: tuple[tuple[float, Estimate, Estimate], ...]
    per_item: Estimate | None
    per_mb: Estimate | None
    cold: Spread | None
    cold_share: Estimate | None
    memory_mb: float | None
    used_mb: Estimate | None
    timeout_ms: float | None
    longest_ms: float
    errors: Estimate
    poison: Estimate | None
    slots: int
    limit: int | None
    tags: dict[str, str]
    mean_run_ms: float
    gb_seconds: float
    first: float
    last: float
    hours: tuple[float, ...] = ()
    quantiles: tuple[float, ...] = ()
    fitted: tuple[float, ...] = ()
    notes: list[str] = field(default_factory=list)
    unknowns: list[Unknown] = field(default_factory=list)
    samples: Any = None
