"""Months of an estate under assignments of its functions to plans, each played once."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property, partial
from os import cpu_count
from threading import Lock
from typing import Generic, TypeVar

from echotally.engine.machines import HERE, Machines
from echotally.engine.sampling import spared_events
from echotally.errors import BadInput, Problem, TooLarge
from echotally.projection.answer import PlanProjection, PlayedPlan, RefusedPlan
from echotally.projection.loaded import Loaded, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from echotally.projection.threads import MANY, Progress, shared_out, side_by_side
from echotally.projection.verdict import asks_for_times
from echotally.rates.card_loading import candidates
from echotally.studies.choice import Sets

#: Months in which a sample may leave out more events than that are compared as samples of about so many.
LARGE, EFFORT = 2_000_000, 400_000
#: Putting a sample together takes as long, for each function, as playing so many events.
_FOR_EACH = 100_000
Seen = TypeVar("Seen")
_Key = tuple[tuple[str, ...], Sets, bool]


class AssignedMonths(Generic[Seen]):
    """Plays assignments, given as the plan of each function by name. ``played``: how many months that took.

    ``seen`` is what is kept of each month whatever its size: of a thousand functions all that is known of one takes 20 MB.
    """

    def __init__(
        self,
        loaded: Loaded,
        seed: int,
        seen: Callable[[PlanProjection, Mapping[str, str]], Seen],
        places: Machines = HERE,
    ) -> None:
        self.loaded, self.seed, self.places, self.played = loaded, seed, places, 0
        self._seen = seen
        self._kept: dict[_Key, PlanProjection] = {}
        self._known: dict[_Key, Seen] = {}
        self._too_large: dict[tuple[str, ...], TooLarge] = {}
        self._lock = Lock()
        # Such months take too much room to keep them, and what is seen of them are quantities, unless a target is about times.
        self._many = loaded.model.units >= MANY
        self._lean = self._many and places is HERE and not asks_for_times(loaded.model)

    def play(self, assignment: Mapping[str, str], sets: Sets = (), *, rough: bool = False) -> PlayedPlan:
        """As ``try_out``; raises ``BadInput`` where the assignment leaves a function no room, or its month is too large."""
        found = self.try_out(assignment, sets, rough=rough)
        if isinstance(found, RefusedPlan):
            if found.feasible is None:
                raise self._too_large[tuple(assignment.values())]
            name, why = found.reasons[0]
            raise BadInput(Problem(f"{name} has no room beside the others: {why}", value=assignment[name]))
        return found

    def if_played(self, assignment: Mapping[str, str], sets: Sets, *, rough: bool = False) -> PlayedPlan | None:
        """As ``try_out``; None where it cannot be played."""
        found = self.try_out(assignment, sets, rough=rough)
        return found if isinstance(found, PlayedPlan) else None

    def whole(self, assignment: Mapping[str, str], *, rough: bool = False) -> PlayedPlan | None:
        """As ``if_played``; what is seen of it is kept for ``each``."""
        month, key = self.if_played(assignment, (), rough=rough), self._key(assignment, (), rough)
        if month is not None and key not in self._known:
            self._known[key] = self._seen(month, assignment)
        return month

    def each(
        self,
        assignments: Sequence[Mapping[str, str]],
        progress: Progress | None = None,
        *,
        rough: bool = False,
        if_known: bool = False,
    ) -> list[Seen]:
        """What is seen of the month under each of some assignments, played side by side.

        ``rough`` as in ``try_out``; ``if_known``: but the month itself where it has been seen, which tells the same more closely.
        """
        workers, cores = (1, None) if self._many else (self.places.width, 1)
        if self._lean:
            workers, cores = shared_out(self.loaded.model.units, len(assignments), room=True)

        def told(assignment: Mapping[str, str], tell: Callable[[float], None]) -> Seen:
            key, itself = (self._key(assignment, (), how) for how in (rough, False))
            if if_known and itself in self._known:
                return self._known[itself]
            if key not in self._known:
                month = self.try_out(assignment, rough=rough, tell=tell, cores=cores, lean=self._lean)
                self._known[key] = self._seen(month, assignment)
            return self._known[key]

        return side_by_side({str(n): partial(told, a) for n, a in enumerate(assignments)}, progress, workers)

    def _key(self, assignment: Mapping[str, str], sets: Sets, rough: bool) -> _Key:
        return tuple(assignment.values()), sets, rough and self.large

    def try_out(
        self,
        assignment: Mapping[str, str],
        sets: Sets = (),
        *,
        rough: bool = False,
        tell: Callable[[float], None] | None = None,
        cores: int | None = None,
        lean: bool = False,
    ) -> PlanProjection:
        """The month under an assignment, with further overrides, if it can be played on ``cores`` (None: all).

        ``rough``: of a large month a small sample, which decides the same in a fraction of the time. ``lean``: of its quantities alone.
        Where even a sample would play too much, the plan is told as one that was not played.
        """
        key = self._key(assignment, sets, rough)
        # Without the lock: of two that ask at once one plays in vain, and both find the same.
        if (known := self._kept.get(key)) is not None:
            return known
        start, effort = (0, EFFORT) if rough and self.large else (None, None)
        offer = self.loaded.offers[next(iter(assignment.values()))]
        how = Playing(
            sampled_from=start, effort=effort, alike=True, cores=cores or cpu_count() or 1, quantities_only=lean
        )
        on_plan = partial(project_plan, how=how)
        found: PlanProjection | None = None
        try:
            found = self.places.run(tell, on_plan, self.placed(assignment, sets), offer, self.seed)
        except TooLarge as error:
            # Anew: where it was raised, whatever had been played stands on the stack that it holds.
            too_large = TooLarge(list(error.problems))
        if found is None and start is None:
            self._too_large.setdefault(tuple(assignment.values()), too_large)
            found = RefusedPlan.unplayed(offer, too_large.problems[0].message)
        elif found is None:
            # Of hours that hand work on a sample may play more than the month has.
            found = self.try_out(assignment, sets, tell=tell, cores=cores, lean=lean)
        with self._lock:
            self.played += 1
            # Sizes are tried once each; plans are compared again and again. Of very large estates the last month is wanted again.
            if not (sets or lean):
                if self._many:
                    self._kept.clear()
                self._kept[key] = found
        return found

    def placed(self, assignment: Mapping[str, str], sets: Sets = ()) -> Loaded:
        """The estate with every function pinned to its plan, and further overrides."""
        loaded = self.loaded.changed(sets) if sets else self.loaded
        pinned = {n: f.model_copy(update={"plan": assignment[n]}) for n, f in loaded.model.functions.items()}
        model = loaded.model.model_copy(update={"functions": pinned})
        return Loaded(model, self.loaded.document, loaded.month, self.loaded.offers)

    @cached_property
    def large(self) -> bool:
        """Whether a sample may leave out so much of a month that what is only compared is played as one."""
        loaded = self.loaded
        placement = placement_on(loaded.model, loaded.offers, candidates(loaded.model, loaded.offers)[0])
        return spared_events(loaded.model, loaded.month, placement) > max(LARGE, _FOR_EACH * self.loaded.model.units)
