"""Estates made up at random that are soon played, on each plan of theirs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from echotally.engine.sampling import expected_events
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.rates.card_loading import Offer
from tests.fuzzing.making import files_of

_SOON = 5_000


def soon_played(folder: Path, cases: Iterable[int]) -> Iterator[tuple[int, Loaded, Offer, dict[str, Offer]]]:
    """The number of each case, the estate, a plan, and where functions are placed on it; months of few events only."""
    for case in cases:
        for file, text in files_of(case, small=True).items():
            (folder / file).write_text(text, encoding="utf-8")
        loaded = load(folder / "model.toml")
        for offer in loaded.offers.values():
            placement = placement_on(loaded.model, loaded.offers, offer)
            if expected_events(loaded.model, loaded.month, placement) <= _SOON:
                yield case, loaded, offer, placement
