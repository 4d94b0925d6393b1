"""What belongs together, directly or by others."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Generic, TypeVar

_Member = TypeVar("_Member", bound=Hashable)


class Groups(Generic[_Member]):
    """Disjoint sets, joined by halving paths (Tarjan and van Leeuwen, 1984)."""

    def __init__(self) -> None:
        self._above: dict[_Member, _Member] = {}

    def root(self, member: _Member) -> _Member:
        """The one that stands for all of its group; a member nobody was joined with stands for itself."""
        above = self._above
        while (parent := above.setdefault(member, member)) != member:
            above[member] = above[parent]
            member = parent
        return member

    def join(self, one: _Member, other: _Member) -> None:
        """Put the groups of two members together."""
        self._above[self.root(one)] = self.root(other)
