"""Which of some changes hold all together: those of which each, or each in its part of the estate, is good alone."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from operator import itemgetter
from typing import Generic, TypeGuard, TypeVar

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
    is_no_worse: Callable[[_Month, _Month], bool],
    blames: Callable[[Sets, _Month, _Month], list[bool]] | None = None,
) -> tuple[_Month, Sets]:
    """The month with those of some changes that leave it no worse than ``base``, which has none of them; and these.

    All of them together, else the first that makes it worse is left out, and so on with the rest, as long as that takes few months.
    Changes that ``blames`` suspects, in a month that is worse, come last: mostly one of them it is.
    """
    places = {change: place for place, change in enumerate(changes)}

    def with_(some: Iterable[tuple[str, str]]) -> Sets:
        return tuple(sorted((*kept, *some), key=places.__getitem__))

    def is_good(found: _Month | None) -> TypeGuard[_Month]:
        return found is not None and is_no_worse(found, base)

    month, kept, rest = base, Sets(), tuple(changes)
    for _ in range(_LEFT_OUT):
        if not rest:
            break
        (whole,) = played([with_(rest)])
        if is_good(whole):
            return whole, with_(rest)
        good, bad, likely = 0, len(rest), 0
        if blames and whole is not None:
            blamed = blames(rest, whole, base)
            rest = tuple(each for _, each in sorted(zip(blamed, rest, strict=True), key=itemgetter(0)))
            likely = blamed.count(False) % len(rest)
        while bad - good > 1:
            # As many at once as are played side by side, evenly spread over what is left, or over those that are blamed.
            parts, start = played.width + 1, max(good, likely)
            steps = sorted({start + max(start == good, (bad - start) * n // parts) for n in range(1, parts)})
            for step, found in zip(steps, played([with_(rest[:step]) for step in steps]), strict=True):
                if not is_good(found):
                    bad, likely = step, 0
                    break
                good, month = step, found
        kept, rest = with_(rest[:good]), rest[bad:]
    return month, kept
