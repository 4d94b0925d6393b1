"""Quantities that vary from one call to the next: run times, cold starts, think times, payloads.

Forms and their sources: a constant; log-normal from median and 95th percentile, where
``sigma = ln(p95 / median) / 1.6448536`` (the standard normal's 95 % point); exponential from its mean;
measured samples drawn with replacement.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from statistics import NormalDist

from echotally.errors import Refused
from echotally.files import opened

#: 95 % point of the standard normal, as rule 2.7 fixes it.
Z95 = 1.6448536
CONSTANT, LOGNORMAL, EXPONENTIAL, SAMPLES = range(4)
_MOST_SAMPLES = 5_000_000
_LARGEST_BYTES = 200_000_000


@dataclass(frozen=True)
class Spread:
    """A distribution of a positive quantity, in nanoseconds or bytes.

    ``kind`` is one of CONSTANT, LOGNORMAL, EXPONENTIAL, SAMPLES. ``scale`` is the constant, the
    median or the mean; ``sigma`` the log-normal shape; ``samples`` the measured values.
    """

    kind: int
    scale: float
    sigma: float = 0.0
    samples: tuple[float, ...] = ()
    text: str = ""

    @property
    def mean(self) -> float:
        """Expected value (log-normal: ``median * exp(sigma^2 / 2)``)."""
        if self.kind == SAMPLES:
            return math.fsum(self.samples) / len(self.samples)
        return self.scale * math.exp(self.sigma**2 / 2)

    def quantile(self, share: float) -> float:
        """The value not exceeded with probability ``share``, 0 < share < 1."""
        if self.kind == LOGNORMAL:
            return self.scale * math.exp(self.sigma * NormalDist().inv_cdf(share))
        if self.kind == EXPONENTIAL:
            return -self.scale * math.log1p(-share)
        if self.kind == SAMPLES:
            ordered = sorted(self.samples)
            return ordered[min(len(ordered), max(1, math.ceil(share * len(ordered)))) - 1]
        return self.scale

    def share_above(self, limit: float) -> float:
        """Probability of a value greater than ``limit``."""
        if self.kind == LOGNORMAL and self.sigma > 0 and self.scale > 0:
            return 1 - NormalDist().cdf(math.log(limit / self.scale) / self.sigma) if limit > 0 else 1.0
        if self.kind == EXPONENTIAL and self.scale > 0:
            return math.exp(-limit / self.scale)
        if self.kind == SAMPLES:
            return sum(value > limit for value in self.samples) / len(self.samples)
        return float(self.scale > limit)


def scaled(spread: Spread, factor: float) -> Spread:
    """A spread all of whose values are ``factor`` times as large."""
    return replace(spread, scale=spread.scale * factor, samples=tuple(x * factor for x in spread.samples), text="")


def constant(value: float) -> Spread:
    """A quantity that is always ``value``."""
    return Spread(CONSTANT, value)


def parse_spread(
    found: object, unit: Callable[[object], int], example: str, header: str, per_unit: int, folder: Path
) -> Spread:
    """Read any form of a spread; ``unit`` turns one quantity into a number.

    ``header`` and ``per_unit`` are the column a samples file must have and what one of it is worth.
    Raises ``ValueError`` whose text is "message|forms allowed".
    """
    forms = (
        f'"{example}", {{ median = "{example}", p95 = ... }}, {{ mean = "{example}", shape = "exponential" }} '
        f'or {{ samples = "file.csv" }}'
    )
    if isinstance(found, str):
        return Spread(CONSTANT, unit(found), text=found)
    if not isinstance(found, Mapping):
        raise Refused("needs a unit or a spread", forms)
    keys = set(found)
    if keys == {"median", "p95"}:
        return _lognormal(unit(found["median"]), unit(found["p95"]), f"median {found['median']}, p95 {found['p95']}")
    if keys == {"mean", "shape"} and found["shape"] == "exponential":
        return Spread(EXPONENTIAL, unit(found["mean"]), text=f"exponential, mean {found['mean']}")
    if keys == {"samples"} and isinstance(found["samples"], str):
        values = _read_samples(folder / found["samples"], header, per_unit)
        return Spread(SAMPLES, 0.0, samples=values, text=f"{len(values)} samples of {found['samples']}")
    raise Refused("is not a known spread", forms)


def _lognormal(median: int, p95: int, text: str) -> Spread:
    if median <= 0 or p95 < median:
        raise Refused("needs 0 < median <= p95", "a p95 that is at least the median")
    if p95 == median:
        return Spread(CONSTANT, median, text=text)
    return Spread(LOGNORMAL, median, math.log(p95 / median) / Z95, text=text)


def _read_samples(path: Path, header: str, per_unit: int) -> tuple[float, ...]:
    allowed = f'a CSV file of one column with the header "{header}" and numbers that are not negative'
    try:
        with io.TextIOWrapper(opened(path, _LARGEST_BYTES), newline="", encoding="utf-8-sig") as file:
            rows = csv.reader(file)
            if [cell.strip() for cell in next(rows, [])] != [header]:
                raise Refused(f"{path.name}:1 has another header", allowed)
            values = tuple(_sample(row, line, path, allowed) * per_unit for line, row in enumerate(rows, 2) if row)
    except csv.Error as error:
        raise Refused(f"{path.name}:{rows.line_num} is no CSV ({error})", allowed) from error
    except OSError as error:
        raise Refused(f"cannot be read ({error.strerror}: {path})", allowed) from error
    except UnicodeDecodeError as error:
        raise Refused(f"{path.name} is not text", allowed) from error
    if not 0 < len(values) <= _MOST_SAMPLES:
        raise Refused(f"{path.name} has {len(values)} samples", f"1 to {_MOST_SAMPLES} samples")
    return values


def _sample(row: list[str], line: int, path: Path, allowed: str) -> float:
    try:
        value = float(row[0])
    except ValueError:
        value = math.nan
    if len(row) != 1 or not 0 <= value < 1e12:
        raise Refused(f"{path.name}:{line} is not one number ({','.join(row)[:40]})", allowed)
    return value
