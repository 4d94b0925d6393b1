"""What a part of an estate has of a month that was played whole, and what is left without it."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.engine.reading import Measured


def taken_out(whole: Measured, functions: Collection[str], sources: Collection[str]) -> Measured:
    """What was measured of some functions and sources, in all environments."""
    rows = [n for n, unit in enumerate(whole.units) if unit.unit.function in functions]
    accounts = dict.fromkeys(whole.units[n].unit.billed_to for n in rows)
    return replace(
        whole,
        units=[whole.units[n] for n in rows],
        sources=[s for s in whole.sources if s.source in sources],
        node_ns={key: ns for key, ns in whole.node_ns.items() if key in accounts},
        accounts=list(accounts),
        series=whole.series.rows(rows),
        put_in=tuple(put for put in whole.put_in if put.source in sources),
        starts_ns=None,
    )


def without(times: NDArray[np.int64], some: NDArray[np.int64]) -> NDArray[np.int64] | None:
    """Times without some of them; None where those are not among them."""
    values, counts = np.unique(times, return_counts=True)
    taken, how_many = np.unique(some, return_counts=True)
    places = np.searchsorted(values, taken)
    if len(taken) and (
        places.max() >= len(values) or (values[places] != taken).any() or (counts[places] < how_many).any()
    ):
        return None
    # As multisets: several instances may have started at one instant.
    counts[places] -= how_many
    return np.repeat(values, counts)
