"""What a fit changes in the model: addresses and values, as TOML to paste or to write."""

from __future__ import annotations

import math

from msgspec import Struct

from echotally.evidence.fit.estimates import Estimate, Spread
from echotally.evidence.fit.fit import Fit
from echotally.model.addresses import address_parts, dotted, table_of
from echotally.model.estate import Model


class Proposal(Struct, frozen=True):
    """(address, TOML value) pairs, files to lie beside the model (name, text), and what was not proposed, in words."""

    sets: tuple[tuple[str, str], ...]
    files: tuple[tuple[str, str], ...]
    notes: tuple[str, ...]


def propose(found: Fit, model: Model | None = None) -> Proposal:
    """The model's keys that a fit gives a value; the demand only where one alone feeds the function."""
    sets: list[tuple[str, str]] = []
    files: list[tuple[str, str]] = []
    at = dotted(("functions", found.function))
    for key, spread in (("run", found.run), ("cold_start", found.cold)):
        if spread is not None:
            sets.append((f"{at}.{key}", spread_text(spread, f"{found.function}-{key.replace('_', '-')}.csv", files)))
    if found.parts.per_item is not None:
        sets.append((f"{at}.per_item", ms_text(found.parts.per_item.value)))
    if found.parts.cpu_share is not None:
        sets.append((f"{at}.cpu_share", number_text(min(1.0, max(0.0, found.parts.cpu_share.value)))))
    if found.measured_mb is not None:
        sets.append((f"{at}.measured_at", f'"{found.measured_mb:.0f} MB"'))
    if found.measured_vcpu is not None:
        sets.append((f"{at}.measured_vcpu", number_text(found.measured_vcpu)))
    if found.memory is not None:
        sets.append((f"{at}.memory_used", f'"{math.ceil(found.memory.largest)} MB"'))
    sets.append((f"{at}.error_rate", number_text(found.errors.value)))
    rhythm, notes = _rhythm(found, model)
    held, said = _held(found, model)
    return Proposal((*sets, *held, *rhythm), tuple(files), (*notes, *said))


def _held(found: Fit, model: Model | None) -> tuple[list[tuple[str, str]], list[str]]:
    """Parts of the run time that the log cannot tell apart: the fitted run holds them, so they are set to nothing."""
    function = model.functions.get(found.function) if model else None
    if function is None:
        return [], []
    keys = ["per_mb"] if function.per_mb else []
    keys += ["per_item"] if function.per_item and found.parts.per_item is None else []
    sets = [(dotted(("functions", found.function, key)), '"0 s"') for key in keys]
    return sets, [f"the fitted run holds what {key} added: it is set to 0" for key in keys]


def _rhythm(found: Fit, model: Model | None) -> tuple[list[tuple[str, str]], list[str]]:
    if found.rhythm is None:
        return [], []
    name, why = _only_demand(found.function, model)
    if name is None:
        return [], [why] if why else []
    at = dotted(("demand", name))
    sets = [(f"{at}.rate", _rate(found.rhythm.rate.value))]
    for key, weights in (("day_shape", found.rhythm.day), ("week_shape", found.rhythm.week)):
        if weights is not None:
            sets.append((f"{at}.{key}", _weights(weights)))
    return sets, []


def _only_demand(function: str, model: Model | None) -> tuple[str | None, str]:
    """The one demand that feeds the function directly by a rate, or why there is none."""
    if model is None:
        return None, "without --model it is not known which demand feeds the function: the rate is only shown"
    sources = [t.from_ for t in model.triggers if t.to == function]
    emitted = {into for f in model.functions.values() for into in f.feeds}
    emitted |= {feed.into for topic in model.topics.values() for feed in topic.feeds}
    feeding = [name for name, demand in model.demand.items() if demand.into in sources]
    if len(sources) != 1 or len(feeding) != 1 or sources[0] in emitted:
        return None, f"the rate is only shown: {function} is not fed by one demand alone"
    demand = model.demand[feeding[0]]
    if demand.rate is None and demand.monthly is None:
        return None, f"the rate is only shown: demand.{feeding[0]} is no rate"
    if demand.surges or demand.lumps:
        return (
            None,
            f"the rate is only shown: demand.{feeding[0]} has surges or lumps, which the log's rate holds as well",
        )
    return feeding[0], ""


def spread_text(found: Spread, file: str, files: list[tuple[str, str]]) -> str:
    """A spread as TOML; one that is kept as samples names ``file``, which is added to ``files``."""
    if found.kind == "constant":
        return ms_text(found.median.value)
    if found.kind == "log-normal":
        return f"{{ median = {ms_text(found.median.value)}, p95 = {ms_text(found.p95.value)} }}"
    files.append((file, "ms\n" + "".join(f"{value:.6g}\n" for value in found.samples)))
    return f'{{ samples = "{file}" }}'


def ms_text(value: float) -> str:
    """A time in ms as TOML."""
    return f'"{number_text(value)} ms"'


def number_text(value: float) -> str:
    """Four significant digits, never in powers of ten."""
    if value == 0:
        return "0"
    digits = max(0, 3 - math.floor(math.log10(abs(value))))
    text = f"{value:.{digits}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def _rate(per_s: float) -> str:
    """Events a second in the unit that gives a number of at least one."""
    for unit, seconds in (("/s", 1), ("/min", 60), ("/h", 3_600)):
        if per_s * seconds >= 1:
            return f'"{number_text(per_s * seconds)} {unit}"'
    return f'"{number_text(per_s * 86_400)} /d"'


def _weights(weights: tuple[Estimate, ...]) -> str:
    return "[" + ", ".join(number_text(round(each.value, 3)) for each in weights) + "]"


def pasted(proposal: Proposal) -> str:
    """The values as TOML, a table each."""
    tables: dict[str, list[str]] = {}
    for address, value in proposal.sets:
        table, _, key = address.rpartition(".")
        tables.setdefault(table, []).append(f"{key} = {value}")
    return (
        "\n\n".join("\n".join([f"[{table_of(address_parts(table))}]", *lines]) for table, lines in tables.items())
        + "\n"
    )
