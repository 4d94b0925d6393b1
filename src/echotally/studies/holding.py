"""Which of some changes hold all together: those of which each, or each in its part of the estate, is good alone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, Generic, TypeVar

from echotally.projection.threads import side_by_side
from echotally.studies.choice import Sets

_Month = TypeVar("_Month")
#: So many of some changes, at the most, are left out again one by one.
_LEFT_OUT = 4


class SomeMonths(Generic[_Month]):
    """Plays so many months and no more, ``width`` of them at once; ``refused``: whether more were asked for."""

    def __init__(self, played: Callable[[Sets], _Month | None], most: int, width: int = 1) -> None:
        self._played, self._left, self.refused, self.width = played, most, False, width

    def __call__(self, several: list[Sets]) -> list[_Month | None]:
        """The months with these; None for what cannot be played, and for what is one too many."""
        some = several[: self._left]
        self.refused |= len(some) < len(several)
        self._left -= len(some)
        found = side_by_side({str(n): partial(self._alone, each) for n, each in enumerate(some)}, None, self.width)
        return [*found, *[None] * (len(several) - len(some))]

    def _alone(self, some: Sets, _: Callable[[float], None]) -> _Month | None:
        return self._played(some)


def holding(
    base: _Month,
    changes: Sequence[tuple[str, str]],
    played: SomeMonths[_Month],
    rank: Callable[[_Month], Any],
) -> tuple[_Month, Sets]:
    """The month with those of some changes that leave it no worse than ``base``, which has none of them; and these.

    All of them together, else the first that makes it worse is left out, and so on with the rest, as long as that takes few months.
    """

    def no_worse(several: list[Sets]) -> list[_Month | None]:
        return [found if found is not None and rank(found) <= rank(base) else None for found in played(several)]

    month, rest = base, tuple(changes)
    kept: Sets = ()
    for _ in range(_LEFT_OUT):
        if not rest:
            break
        (whole,) = no_worse([(*kept, *rest)])
        if whole:
            return whole, (*kept, *rest)
        good, bad = 0, len(rest)
        while bad - good > 1:
            # As many at once as are played side by side, evenly spread over what is left.
            parts = played.width + 1
            places = sorted({good + max(1, (bad - good) * n // parts) for n in range(1, parts)})
            for place, found in zip(places, no_worse([(*kept, *rest[:place]) for place in places]), strict=True):
                if not found:
                    bad = place
                    break
                good, month = place, found
        kept, rest = (*kept, *rest[:good]), rest[bad:]
    return month, kept
