"""Numbers of the command line as people write them: 10000, 10_000, 10k, 1.5M, 1e6."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

import click

from echotally.model.spoken import number_in

_GROUPED = re.compile(r"\d{1,3}(,\d{3})+")


class Whole(click.IntRange):
    """A whole number between bounds, in any of these forms."""

    name = "number"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """The number; a refusal says what is allowed."""
        if isinstance(value, int):
            return value
        text = str(value)
        number = number_in(text.replace(",", "") if _GROUPED.fullmatch(text.strip()) else text)
        if number is None or number != number.to_integral_value() or not self._holds(int(number)):
            self.fail(f"is no whole number {self.said()} (found {text})", param, ctx)
        return int(number)

    def _holds(self, number: int) -> bool:
        return (self.min is None or number >= self.min) and (self.max is None or number <= self.max)

    def _describe_range(self) -> str:
        """The bounds, for the help."""
        return self.said().partition(", such")[0].removeprefix("from ")

    def said(self) -> str:
        """The bounds in words."""
        low, high = (f"{bound:,}" if bound is not None else None for bound in (self.min, self.max))
        bounds = f"from {low} to {high}" if high is not None else f"of {low} or more" if low is not None else ""
        example = ", such as 10000, 10k or 1e4" if (self.max or 10_000) >= 10_000 else ""
        return f"{bounds}{example}".strip()


class Amount(click.FloatRange):
    """A number between bounds, in any of these forms."""

    name = "number"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """The number; a refusal says what is allowed."""
        if isinstance(value, float | int):
            return float(value)
        number = number_in(str(value))
        if (
            number is None
            or (self.min is not None and number < Decimal(repr(self.min)))
            or (self.max is not None and number > Decimal(repr(self.max)))
        ):
            high = f"from {self.min:g} to {self.max:g}" if self.max is not None else f"of {self.min or 0:g} or more"
            self.fail(f"is no number {high} (found {value})", param, ctx)
        return float(number)
