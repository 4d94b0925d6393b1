"""Quantities that vary from one call to the next: run times, cold starts, think times, payloads.

Forms and their sources: a constant; log-normal from median and 95th percentile, where
``sigma = ln(p95 / median) / 1.6448536`` (the standard normal's 95 % point); exponential from its mean;
measured samples drawn with replacement; a mixture of these, of which each value is of one kind by its share.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Mapping
from pathlib import Path
from statistics import NormalDist

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import Refused
from echotally.files import opened

#: 95 % point of the standard normal, as rule 2.7 fixes it.
Z95 = 1.6448536
CONSTANT, LOGNORMAL, EXPONENTIAL, SAMPLES, MIX = range(5)
#: How far the shares of a mixture may be off 1 (rule 7.76).
_SHARES_OFF = 1e-9
_MOST_PARTS = 100
_MOST_SAMPLES = 5_000_000
_LARGEST_BYTES = 200_000_000


class Spread(Struct, frozen=True):
    """A distribution of a positive quantity, in nanoseconds or bytes.

    ``kind`` is one of CONSTANT, LOGNORMAL, EXPONENTIAL, SAMPLES, MIX. ``scale`` is the constant, the
    median or the mean; ``sigma`` the log-normal shape; ``samples`` the measured values; ``parts`` the (share, spread) of a
    mixture, none of them a mixture.
    """

    kind: int
    scale: float
    sigma: float = 0.0
    samples: tuple[float, ...] = ()
    text: str = ""
    parts: tuple[tuple[float, Spread], ...] = ()

    @property
    def mean(self) -> float:
        """Expected value (log-normal: ``median * exp(sigma^2 / 2)``)."""
        if self.kind == MIX:
            return math.fsum(share * part.mean for share, part in self.parts)
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
        if self.kind == MIX:
            return self._mixed_quantile(share)
        return self.scale

    def _mixed_quantile(self, share: float) -> float:
        """The smallest value that at least ``share`` of a mixture does not exceed, by halving until floats are neighbours."""
        quantiles = [part.quantile(share) for _, part in self.parts]
        low, high = math.nextafter(min(quantiles), -math.inf), max(quantiles)
        while low < (middle := (low + high) / 2) < high:
            # What may be lacking is rounding: shares that sum to 1 - 1e-16 must reach 1.
            enough = 1 - self.share_above(middle) >= share - 1e-12
            low, high = (low, middle) if enough else (middle, high)
        return high

    def share_above(self, limit: float) -> float:
        """Probability of a value greater than ``limit``."""
        if self.kind == LOGNORMAL and self.sigma > 0 and self.scale > 0:
            return 1 - NormalDist().cdf(math.log(limit / self.scale) / self.sigma) if limit > 0 else 1.0
        if self.kind == EXPONENTIAL and self.scale > 0:
            return math.exp(-limit / self.scale)
        if self.kind == SAMPLES:
            return sum(value > limit for value in self.samples) / len(self.samples)
        if self.kind == MIX:
            return math.fsum(share * part.share_above(limit) for share, part in self.parts)
        return float(self.scale > limit)


def scaled(spread: Spread, factor: float) -> Spread:
    """A spread all of whose values are ``factor`` times as large."""
    return replace(
        spread,
        scale=spread.scale * factor,
        samples=tuple(x * factor for x in spread.samples),
        text="",
        parts=tuple((share, scaled(part, factor)) for share, part in spread.parts),
    )


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
        f'"{example}", {{ median = "{example}", p95 = ... }}, {{ mean = "{example}", shape = "exponential" }}, '
        f'{{ samples = "file.csv" }} or {{ mix = [{{ share = 0.9, constant = "{example}" }}, ...] }}'
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
    if keys == {"mix"}:
        return _mixture(found["mix"], lambda part: parse_spread(part, unit, example, header, per_unit, folder), example)
    raise Refused("is not a known spread", forms)


def _mixture(found: object, parse: Callable[[object], Spread], example: str) -> Spread:
    """``mix = [{ share = 0.99, median = ..., p95 = ... }, ...]``: shares that sum to 1, each with a spread that is no mixture."""
    part_form = f'an array of {{ share = 0.9, constant = "{example}" }} and the like, with shares that sum to 1'
    if not isinstance(found, list) or not 0 < len(found) <= _MOST_PARTS:
        raise Refused(f"a mixture has 1 to {_MOST_PARTS} parts", part_form)
    parts = [_part(part, parse, part_form) for part in found]
    total = math.fsum(share for share, _ in parts)
    if abs(total - 1) > _SHARES_OFF:
        raise Refused(f"the shares of a mixture sum to {total:.10g}", "shares that sum to 1")
    text = "mix of " + ", ".join(f"{100 * share:.10g} % {part.text}" for share, part in parts)
    return Spread(MIX, 0.0, text=text, parts=tuple(parts))


def _part(found: object, parse: Callable[[object], Spread], allowed: str) -> tuple[float, Spread]:
    share = found.get("share") if isinstance(found, Mapping) else None
    if not isinstance(found, Mapping) or isinstance(share, bool) or not isinstance(share, int | float):
        raise Refused("a part of a mixture needs a share", allowed)
    if not 0 <= share <= 1:
        raise Refused(f"a share of {share} is none", "a share from 0 to 1")
    own = {key: value for key, value in found.items() if key != "share"}
    if "mix" in own:
        raise Refused("a mixture in a mixture", "parts that are no mixtures")
    return float(share), parse(
        own["constant"] if set(own) == {"constant"} and isinstance(own["constant"], str) else own
    )


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
