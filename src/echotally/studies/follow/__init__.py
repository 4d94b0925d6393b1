"""One event's way through the estate, played with everything else that month: found, told, paid for.

Why it exists: a total says how much, one event says why. ``choosing`` finds the event in a month that is played once with a diary
of what the question needs, ``telling`` plays the same month again up to the event and writes down its way, ``money`` says what
each step costs and what of the bill belongs to no event.
"""

from echotally.studies.follow.answer import Followed
from echotally.studies.follow.follow import Which, follow

__all__ = ["Followed", "Which", "follow"]
