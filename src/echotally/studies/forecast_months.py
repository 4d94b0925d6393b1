"""Months of a forecast, played on plans: as expected, and with one input or another at its ends."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial

from msgspec.structs import replace

from echotally.engine.apart import Memory
from echotally.engine.machines import Machines
from echotally.errors import TooLarge
from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.showback import showback
from echotally.projection.threads import Progress, side_by_side
from echotally.rates.card_loading import Offer
from echotally.studies.forecast_trials import has_parts, moved_months
from echotally.studies.later_months import month_with
from echotally.studies.response import Input, Played, Variant, played

_NOTHING: Mapping[Variant, Mapping[str, Played]] = {}


def _share_of(tell: Callable[[float], None], n: int, of: int, share: float) -> None:
    tell((n + share) / of)


def _month_on(
    loaded: Loaded,
    plan: str,
    seed: int,
    by: str | None,
    memory: Memory | None,
    progress: Callable[[float], None] | None = None,
) -> Played | None:
    """A month on a plan, with the prices that it has in that month; None where the plan cannot take every function."""
    projected = project_plan(loaded, loaded.offers[plan], seed, progress, Playing(memory=memory))
    if not isinstance(projected, PlayedPlan):
        return None
    parts = showback(loaded.model, projected, by) if by else ()
    return replace(played(projected), parts={each.labels: float(each.cost) for each in parts})


class MonthsPlayer:
    """Plays months; ``unplayed`` are the plans of which one was too large even for a sample, and why."""

    def __init__(self, loaded: Loaded, seed: int, by: str | None, progress: Progress | None, places: Machines) -> None:
        self.loaded, self.seed, self.by, self.progress, self.places = loaded, seed, by, progress, places
        self.unplayed: dict[str, TooLarge] = {}

    def moved(
        self, inputs: Sequence[Input], steps: Sequence[int], offers: Sequence[Offer], *, each: bool = False
    ) -> dict[Variant, dict[str, Played]]:
        """As ``play``: months so many steps on, each with one input at its low or its high end."""
        variants = [(step, its.address, end) for step in steps for its in inputs for end in (its.low, its.high)]
        known: dict[Variant, dict[str, Played]] = {variant: {} for variant in variants}
        if self.places.width is None:
            # On other machines whole months are played side by side.
            self._tell_apart(inputs, steps, offers, known)
        left = {
            (step, address, end): month_with(self.loaded, step, {address: end})
            for step, address, end in variants
            if len(known[step, address, end]) < len(offers)
        }
        # One input differs from variant to variant, so that most parts of a month are those of another.
        memory = Memory() if self.places.width is None else None
        return {**known, **self.play(left, offers, memory=memory, each=each, known=known)}

    def _tell_apart(
        self,
        inputs: Sequence[Input],
        steps: Sequence[int],
        offers: Sequence[Offer],
        known: Mapping[Variant, dict[str, Played]],
    ) -> None:
        """Add to ``known`` what only a part of a large month has to be played for."""
        tasks = {
            (step, offer.name): partial(moved_months, self.loaded, step, offer, self.seed, inputs)
            for step in steps
            for offer in offers
            if has_parts(self.loaded, offer) and offer.name not in self.unplayed
        }
        found = side_by_side({f"{step} {name}": task for (step, name), task in tasks.items()}, self.progress)
        for (step, name), months in zip(tasks, found, strict=True):
            for (address, end), month in months.items():
                known[step, address, end][name] = month

    def play(
        self,
        variants: Mapping[Variant, Loaded],
        offers: Sequence[Offer],
        *,
        memory: Memory | None = None,
        each: bool = False,
        known: Mapping[Variant, Mapping[str, Played]] = _NOTHING,
    ) -> dict[Variant, dict[str, Played]]:
        """Each variant of a month on each plan, but those that are ``known``; plans that cannot take every function are left out.

        ``memory`` has what parts came to in other variants. A plan of which one variant is too large even for a sample is
        ``unplayed`` from there on; ``each``: only that variant is left out.
        """

        def month(variant: Variant, tell: Callable[[float], None]) -> dict[str, Played]:
            loaded, found = variants[variant], dict(known.get(variant, {}))
            for n, offer in enumerate(offers):
                if offer.name in self.unplayed or offer.name in found:
                    continue
                told = partial(_share_of, tell, n, len(offers))
                try:
                    one = self.places.run(told, _month_on, loaded, offer.name, self.seed, self.by, memory)
                except TooLarge as error:
                    if not each:
                        # Anew: what it was raised of stands on the stack that it holds.
                        self.unplayed[offer.name] = TooLarge(list(error.problems))
                    continue
                if one is not None:
                    found[offer.name] = one
            return found

        tasks = {f"{step} {address} {end}": partial(month, (step, address, end)) for step, address, end in variants}
        return dict(zip(variants, side_by_side(tasks, self.progress, self.places.width), strict=True))
