"""Who plays a sample's worlds, counts what that takes, and refuses what would be too much."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from copy import copy

from echotally.demand.happenings import QUIET, Happenings
from echotally.demand.month import Arrivals, MonthPlan, Tap
from echotally.engine.build import Built, Site, stream_seed
from echotally.engine.layout import attempts_so_far, events_so_far
from echotally.engine.play import begun_on, play
from echotally.engine.sampling.expecting import SAMPLED_FROM
from echotally.engine.sampling.lanes import Lanes
from echotally.engine.sampling.strata import PARTS
from echotally.engine.sampling.totals import Reading, Span
from echotally.engine.watch import USUAL
from echotally.errors import Problem, TooLarge
from echotally.model.estate import Model
from echotally.model.sources import SourceRef
from echotally.rates.card_loading import Offer

#: Events laid into a lane at least, at first, and at most; and into all of those that are new together.
LAID_LEAST, LAID_FIRST, LAID_MOST, LAID_MUCH = 1_000, 20_000, 4_000_000, 500_000
#: What is foreseen must be so many times too much: parts differ a little.
_FORESEEN = 1.1


class Dearer(Exception):
    """A sample would play more than the month itself."""


class Player:
    """Plays and counts; what a sample plays beyond ``most`` events, or beyond its bounds, is refused.

    ``foreseen`` is how many the last play was expected to have. ``stubborn``: also where the month itself is sooner played, of which
    ``Dearer`` tells else. ``rates`` are the most events a ns that each lane has been seen to hand on, ``timeouts`` how long what each
    source starts may run, ns.
    """

    def __init__(
        self,
        model: Model,
        month: MonthPlan,
        placement: Mapping[str, Offer],
        seed: int,
        expected: float,
        tell: Callable[[], None],
    ) -> None:
        queues = {name: queue.model_copy(update={"backlog": 0}) for name, queue in model.queues.items()}
        self.model = model.model_copy(update={"queues": queues})
        self.month, self.placement, self.seed, self.expected, self.tell = month, placement, seed, expected, tell
        self.played, self.played_on, self.stubborn, self.most = 0, 0, True, SAMPLED_FROM
        self.in_hours = self.foreseen = 0
        self.tried, self.bounds = 0, USUAL
        # Every world of a sample stands on it.
        self.site = Site(self.model, placement)
        self.first = self.world(lasting((), month.length_ns), "layout")
        self.lanes = Lanes(self.first)
        self.rates: dict[int, float] = {}
        self.seen_full: set[int] = set()
        self.timeouts: dict[SourceRef, int] = {}
        for trigger in model.triggers:
            timeout = model.functions[trigger.to].timeout
            self.timeouts[trigger.from_] = max(timeout, self.timeouts.get(trigger.from_, 0))

    def beside(self, tell: Callable[[], None]) -> Player:
        """Another one of the same month, that has played nothing: this one ``takes`` what it counts."""
        found = copy(self)
        found.rates, found.seen_full, found.tell = dict(self.rates), set(self.seen_full), tell
        found.played = found.played_on = found.in_hours = found.tried = found.foreseen = 0
        return found

    def takes(self, other: Player) -> None:
        """Count what another has played beside this one, as if this one had. Raises as playing it would have."""
        self.may_play(other.foreseen)
        self.played, self.played_on = self.played + other.played, self.played_on + other.played_on
        self.in_hours, self.tried = self.in_hours + other.in_hours, self.tried + other.tried
        for lane, rate in other.rates.items():
            self.hands_on(lane, rate)
        self.refuse(self.played)
        self.bounds.hold(self.tried)

    # -- playing ------------------------------------------------------------------------------------------------
    def world(self, plan: Arrivals, label: str) -> Built:
        """A world at its beginning; ``label`` tells its random numbers from those of others."""
        return begun_on(self.site, self.model, plan, stream_seed(self.seed, label))

    def heard(self, _: float) -> None:
        """Told by a world now and then, how far it has come."""
        self.tell()

    def whole_month(self, taps: Sequence[Tap]) -> Span:
        """Some taps over the whole month, apart from the rest: what only they reach has the luck that it has in the month itself."""
        plan = Arrivals(tuple(taps), self.month.length_ns, self.month.happenings)
        built = begun_on(self.site, self.model, plan, self.seed)
        before = Reading.of(built)
        play(built, None, self.heard)
        after = Reading.of(built)
        self.count(built)
        return after.since(before)

    # -- what is known of lanes ---------------------------------------------------------------------------------
    def hands_on(self, lane: int, rate: float) -> None:
        """A lane has been seen to hand on so many events a ns."""
        self.rates[lane] = max(self.rates.get(lane, 0.0), rate)

    def hands_on_full(self, lane: int, rate: float) -> None:
        """The same of one that was full: this is all that it can."""
        self.hands_on(lane, rate)
        self.seen_full.add(lane)

    def guessed(self, lanes: Collection[int], length: int) -> dict[int, int]:
        """How many events keep each lane full for so long, ns, with some to spare."""
        # Of very many lanes each gets few at first: all of them together are in memory at once.
        unknown = min(LAID_FIRST, max(LAID_LEAST, LAID_MUCH // max(1, len(lanes))))
        least = {lane: LAID_LEAST if lane in self.seen_full else unknown for lane in lanes}
        return {n: min(LAID_MOST, max(least[n], int(1.5 * self.rates.get(n, 0.0) * length))) for n in lanes}

    # -- counting, refusing -------------------------------------------------------------------------------------
    def count(self, built: Built) -> None:
        """Count what a world has played. Raises ``TooLarge`` beyond what may be."""
        self.played += events_so_far(built.world)
        self.tried += attempts_so_far(built.world)
        self.refuse(self.played)
        self.bounds.hold(self.tried)

    def counts_hours(self, built: Built, of_one: bool) -> None:
        """Count hours as they are; raises ``Dearer`` where too many are played by going on from ``of_one`` to the next."""
        self.count(built)
        played = events_so_far(built.world)
        self.in_hours += played
        self.played_on += 0 if of_one else played
        # Each part plays on where another did: what one of them plays of the month, all of them play several times.
        if self.played_on > self.expected / 2 and not self.stubborn:
            raise Dearer

    def holds(self, built: Built) -> None:
        """Raise where a world has played, so far, more than may be."""
        self.refuse(self.played + events_so_far(built.world))
        self.bounds.hold(self.tried + attempts_so_far(built.world))

    def may_play(self, coming: float) -> None:
        """Refuse what is known to be too much before it is played."""
        self.foreseen = int(min(1e18, coming))
        self.refuse(self.played + self.foreseen)

    def foresees(self, part: int) -> None:
        """Refuse, after a part's month, what would be refused after another: each has hours of its own to play, about as many."""
        of_others = self.in_hours / (part + 1) * (PARTS - 1 - part)
        self.refuse(int((self.played + of_others) / _FORESEEN))

    def refuse(self, played: int) -> None:
        """Raise ``TooLarge`` where so many events are more than may be played."""
        if played > self.most:
            raise self.too_large()

    def too_large(self) -> TooLarge:
        """What to tell of a month of which even a sample is too much."""
        return TooLarge(
            Problem(
                f"expects {self.expected:,.0f} events, of which even a sample would play more than {self.most:,}: "
                "work is left over for so long, or so many hours differ, that few of them can be left out",
                self.model.estate.month,
                allowed="--exact plays them all; or less demand, a shorter trace, one plan (--plan)",
            )
        )


def lasting(taps: tuple[Tap, ...], length_ns: int, happenings: Happenings = QUIET) -> Arrivals:
    """Time enough for so many ns: to the next microsecond and a little more."""
    return Arrivals(taps, (length_ns // 1_000 + 1) * 1_000, happenings)
