"""Lays out what parts measured as if they had been played in one world."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from echotally.engine.hourly import Hourly
from echotally.engine.reading import Measured, PutIn
from echotally.engine.sketch import Level
from echotally.model.estate import Model


def joined(model: Model, parts: Sequence[Measured], concurrency: Level) -> Measured:
    """The whole month, units and sources in the order a joint world has them."""
    environments = {name: n for n, name in enumerate(model.environments)}
    functions = {name: n for n, name in enumerate(model.functions)}
    sources = {source: n for n, source in enumerate(model.sources())}

    def in_file(function: str, environment: str) -> int:
        return environments[environment] * len(functions) + functions[function]

    def by_origin(put: PutIn) -> tuple[int, int]:
        # As ``engine.reading`` lists them: topics' feeds and dead letters by source, what functions put out by unit.
        if put.origin is None:
            return 2, place[put.writer, put.environment]
        return (0 if put.topic else 1), environments[put.environment] * len(sources) + sources[put.origin]

    found = [(part, n, unit) for part in parts for n, unit in enumerate(part.units)]
    found.sort(key=lambda each: in_file(each[2].unit.function, each[2].unit.environment))
    # Units of one account stand together, accounts in the order they are first met (``build.Shared``).
    accounts = {key: n for n, key in enumerate(dict.fromkeys(unit.unit.billed_to for _, _, unit in found))}
    found.sort(key=lambda each: accounts[each[2].unit.billed_to])
    place = {unit.key: n for n, (_, _, unit) in enumerate(found)}
    return Measured(
        units=[replace(unit, order=in_file(*unit.key)) for _, _, unit in found],
        sources=sorted(
            (source for part in parts for source in part.sources),
            key=lambda s: environments[s.environment] * len(sources) + sources[s.source],
        ),
        concurrency=concurrency,
        node_ns={key: sum(part.node_ns.get(key, 0) for part in parts) for key in accounts},
        accounts=list(accounts),
        month_ns=parts[0].month_ns,
        series=Hourly.joined((part.series, n) for part, n, _ in found),
        put_in=tuple(sorted((put for part in parts for put in part.put_in), key=by_origin)),
    )
