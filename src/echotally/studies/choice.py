"""What ``choose`` comes to."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from echotally.projection.answer import PlayedPlan
from echotally.projection.loaded import Loaded
from echotally.showing import Answer
from echotally.studies.committing import Commitments

Sets = tuple[tuple[str, str], ...]


@dataclass(frozen=True, repr=False)
class Choice(Answer):
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
