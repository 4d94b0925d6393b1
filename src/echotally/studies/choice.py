"""What ``choose`` comes to."""

from __future__ import annotations

from decimal import Decimal

from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.projection.totals import totals_of
from echotally.showing import Answer
from echotally.studies.committing import Commitments

Sets = tuple[tuple[str, str], ...]
#: A wait that wants saying: so many seconds, and so many times today's.
_LONG_S, _LONGER = 60.0, 10.0


class Choice(Answer, frozen=True):
    """The choice: today's projection, the chosen one, and the overrides that lead from one to the other.

    ``assignment`` gives each function's plan; ``tried`` how many assignments were estimated, ``played`` how many
    months were played; ``bound`` a cost no assignment can be below (None where all were estimated); ``assigned`` what the
    assignment costs at today's sizes.
    """

    loaded: Loaded
    today: PlayedPlan
    chosen: PlayedPlan
    assignment: dict[str, str]
    sets: Sets
    method: str
    tried: int
    played: int
    bound: Decimal | None
    assigned: Decimal
    commitments: tuple[Commitments, ...] | None = None
    #: Whether sizes were looked at as well.
    sized: bool = True
    #: Functions of which some sizes were not: only the whole month tells what they do, and all of them would take too long.
    unsized: tuple[str, ...] = ()
    #: Plans of which it is not known what they would come to: even a sample of their months is too large.
    unplayed: tuple[str, ...] = ()

    def made_to_wait(self) -> list[tuple[str, float | None, float]]:
        """Functions whose work comes to wait long (p95, s: today, as chosen) where no target says how long it may; the longest first.

        Long is over a minute and over ten times as long as today.
        """
        targets, found = self.loaded.model.targets, list[tuple[str, float | None, float]]()
        for name, function in self.loaded.model.functions.items():
            if any(t.wait_p95 is not None or t.latency_p95 is not None for t in (targets, function.targets)):
                continue
            today, chosen = (totals_of(month.units_of(name)).wait_p95_s for month in (self.today, self.chosen))
            if chosen is not None and chosen > max(_LONG_S, _LONGER * (today or 0.0)):
                found.append((name, today, chosen))
        return sorted(found, key=lambda each: -each[2])
