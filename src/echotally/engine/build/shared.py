"""What the builders hand out to each other: places of sources and units, random streams, lists, samples."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from copy import copy
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from echotally.engine import layout, records
from echotally.engine.ziggurat import tables
from echotally.model.estate import Model
from echotally.model.sources import SourceRef
from echotally.model.spread import MIX, SAMPLES, Spread
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import UnitSettings, unit_settings

#: In place of a limit where there is none: more than any month starts.
UNLIMITED = 2**40


class Unit(Struct, frozen=True):
    """A function in an environment, on a plan."""

    function: str
    environment: str
    account: str
    offer: Offer
    settings: UnitSettings

    @property
    def billed_to(self) -> tuple[str, str]:
        """The account and the plan that share allowances and room."""
        return self.account, self.offer.name


def stream_seed(seed: int, label: str) -> int:
    """The 64-bit start of a random stream: a digest of the seed and what the stream is for."""
    return int(stream_seeds(seed, [label])[0])


def stream_seeds(seed: int, labels: Sequence[str]) -> NDArray[np.uint64]:
    """As ``stream_seed``, of many."""
    head = f"{seed}\0".encode()
    digests = [hashlib.blake2b(head + label.encode(), digest_size=8).digest() for label in labels]
    return np.frombuffer(b"".join(digests), "<u8").astype(np.uint64)


class Shared:
    """The model, the order of its units and sources, and what is numbered as the builders ask for it."""

    def __init__(self, model: Model, placement: Mapping[str, Offer]) -> None:
        self.model = model
        units = [
            Unit(name, environment, e.account or "", offer, unit_settings(model.functions[name], offer.plan))
            for environment, e in model.environments.items()
            for name, offer in ((name, placement[name]) for name in model.functions)
        ]
        self.accounts = list(dict.fromkeys(u.billed_to for u in units))
        # Units of one account stand together, so that an account is a range of them.
        self.units = sorted(units, key=lambda u: self.accounts.index(u.billed_to))
        self.unit_at = {(u.function, u.environment): n for n, u in enumerate(self.units)}
        self.sources: list[tuple[str, SourceRef]] = [(env, s) for env in model.environments for s in model.sources()]
        self.source_at = {key: n for n, key in enumerate(self.sources)}
        self.streams: list[str] = []
        # Exponential draws look their tables up at the head.
        self.samples: list[float] = [*tables()]
        self._sample_at: dict[tuple[float, ...], int] = {}
        self.portions: list[tuple[float, Spread]] = []
        self._mixture_at: dict[Spread, int] = {}
        self.pauses: list[int] = []
        self.lists = 0
        self.window = 0

    def copied(self) -> Shared:
        """The same, to be numbered on without this one hearing of it."""
        found = copy(self)
        found.streams, found.samples, found.pauses = [*self.streams], [*self.samples], [*self.pauses]
        found.portions, found._sample_at = [*self.portions], {**self._sample_at}
        found._mixture_at = {**self._mixture_at}
        return found

    def stream(self, *labels: str) -> int:
        """Indices of new random streams, one a label; returns the first."""
        self.streams += labels
        return len(self.streams) - len(labels)

    def take_lists(self, n: int) -> int:
        """The first of ``n`` new lists."""
        self.lists += n
        return self.lists - n

    def take_window(self, n: int) -> int:
        """The first of ``n`` new places in the window of polled looks."""
        self.window += n
        return self.window - n

    def take_pauses(self, waits: tuple[int, ...]) -> int:
        """The first of the waits after failed runs."""
        self.pauses += waits
        return len(self.pauses) - len(waits)

    def _samples(self, samples: tuple[float, ...]) -> int:
        """The first place of samples; equal ones are kept once."""
        if samples not in self._sample_at:
            self._sample_at[samples] = len(self.samples)
            self.samples += samples
        return self._sample_at[samples]

    def spread(self, record: Any, prefix: str, spread: Spread) -> None:
        """Write a spread into the fields ``prefix_kind`` to ``prefix_n`` of a record; equal samples are kept once."""
        record[f"{prefix}_kind"] = spread.kind
        record[f"{prefix}_scale"], record[f"{prefix}_sigma"] = spread.scale, spread.sigma
        if spread.kind == SAMPLES:
            record[f"{prefix}_from"] = self._samples(spread.samples)
            record[f"{prefix}_n"] = len(spread.samples)
        elif spread.kind == MIX:
            if spread not in self._mixture_at:
                self._mixture_at[spread] = len(self.portions)
                self.portions += spread.parts
            record[f"{prefix}_from"] = self._mixture_at[spread]
            record[f"{prefix}_n"] = len(spread.parts)

    def portion_records(self) -> Any:
        """The parts of all mixtures as records, once every other record has been made."""
        found = layout.records(records.Portion, len(self.portions))
        mixtures = {first: len(spread.parts) for spread, first in self._mixture_at.items()}
        for first, n in mixtures.items():
            upto = 0.0
            for record, (share, part) in zip(found[first : first + n], self.portions[first : first + n], strict=True):
                upto += share
                self._portion(record, upto, part)
        return found

    def _portion(self, record: Any, upto: float, part: Spread) -> None:
        record["upto"], record["kind"], record["scale"], record["sigma"] = upto, part.kind, part.scale, part.sigma
        if part.kind == SAMPLES:
            record["first"], record["n"] = self._samples(part.samples), len(part.samples)
