"""Demand seen before any function runs: events of every source, by minute, hour and day.

The arrivals are drawn by the same compiled taps, with the same seeds, as the simulation's.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.model.sources import SourceRef

#: Whole numbers as narrow as they may be.
Counts = NDArray[np.integer[Any]]


class SourceDemand(Struct, frozen=True):
    """What comes in from outside at one source of one environment.

    ``minutes`` counts events by minute of the month; ``heat`` has shape (days, 24), events by local day and
    hour. Both are drawn with the model's seed.
    """

    environment: str
    source: SourceRef
    total: int
    expected: float
    minutes: Counts
    heat: NDArray[np.int64]

    @property
    def per_hour(self) -> float:
        """Mean events an hour."""
        return self.total / (len(self.minutes) / 60)

    @property
    def busiest_minute(self) -> int:
        """Events of the busiest minute."""
        return int(self.minutes.max(initial=0))

    @property
    def busiest_hour(self) -> int:
        """Events of the busiest hour, counted from the month's start."""
        whole = np.add.reduceat(self.minutes, np.arange(0, len(self.minutes), 60), dtype=np.int64)
        return int(whole.max(initial=0))
