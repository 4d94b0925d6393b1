"""Months that tests have in common: what is said of them is asked a hundred times, what they come to once a process."""

from __future__ import annotations

import hashlib
import pickle
from collections import OrderedDict
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from threading import Lock
from typing import Any
from unittest.mock import patch

from echotally.demand.month import Arrivals
from echotally.engine.apart import simulate_month
from echotally.engine.play import PLAIN, Wanted
from echotally.engine.reading import Measured
from echotally.model.estate import Model
from echotally.rates.card_loading import Offer

#: So many are kept, those asked for last the longest.
_MOST = 120
_KEPT: OrderedDict[bytes, Measured] = OrderedDict()
_LOCK = Lock()


@contextmanager
def known_months() -> Iterator[None]:
    """Within, a month that was played already on the same plans from the same seed is not played again.

    For tests of words, forms and pages. Tests of what a month comes to, or of the playing of it, go without.
    """
    with (
        patch("echotally.projection.project.simulate_month", _known),
        patch("echotally.studies.choose.simulate_month", _known),
    ):
        yield


def _known(
    model: Model,
    arrivals: Arrivals,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Any = None,
    wanted: Wanted = PLAIN,
) -> Measured:
    # All that it is played from, by content: what a test says of its month does not count.
    asked = (model, arrivals, dict(placement), seed, wanted.bounds, wanted.starts, wanted.marks)
    key = hashlib.sha256(pickle.dumps(asked)).digest()
    with _LOCK:
        found = _KEPT.get(key)
        if found is not None:
            _KEPT.move_to_end(key)
            return found
    found = simulate_month(model, arrivals, placement, seed, progress, wanted)
    with _LOCK:
        _KEPT[key] = found
        while len(_KEPT) > _MOST:
            _KEPT.popitem(last=False)
    return found
