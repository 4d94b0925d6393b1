"""A month of any estate: apart where it has parts, jointly where it has none or they got in each other's way."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial

from msgspec.structs import replace

from echotally.demand.month import Arrivals
from echotally.engine.apart.joining import joined
from echotally.engine.apart.merging import MOST_ACCOUNTS, Merged
from echotally.engine.apart.playing import TASKS, Player, Players, ends_here
from echotally.engine.apart.splitting import Part, Split
from echotally.engine.apart.spread import Month, spread_out
from echotally.engine.machines import HERE
from echotally.engine.play import PLAIN, Wanted, simulate
from echotally.engine.reading import Measured
from echotally.model.estate import Model
from echotally.rates.card_loading import Offer

#: From so many functions on, in all environments, parts are faster on one core as well, if so many events come to each of them
#: that worlds of their own are worth their making; or from so many events in all, on several cores.
_MANY, _EACH, _BUSY = 64, 200, 1_000_000
#: So many functions stand in one world: their records fit a processor's near memory, and worlds are few.
_TOGETHER = 32


def simulate_month(
    model: Model,
    arrivals: Arrivals,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Callable[[float], None] | None = None,
    wanted: Wanted = PLAIN,
) -> Measured:
    """As ``engine.play.simulate``, to the byte, on up to ``cores`` threads or on the machines of ``places``.

    With ``marks``, of quantities alone, and where starts are kept on other machines, it is played jointly.
    """
    found = None
    if not any(wanted.marks) and not wanted.quantities_only and _may_be_parted(model):
        found = _in_parts(Month(model, arrivals, placement, seed, wanted.bounds), wanted, progress)
    jointly = partial(simulate, wanted=wanted._replace(places=HERE, memory=None))
    return found or wanted.places.run(progress, jointly, model, arrivals, placement, seed)


def _in_parts(month: Month, wanted: Wanted, progress: Callable[[float], None] | None) -> Measured | None:
    """The month part by part; None where it is sooner played jointly, or parts got in each other's way."""
    width, memory = wanted.places.width, None if wanted.starts else wanted.memory
    pays = _pays(month.model, month.arrivals, width or wanted.cores) and not (width and wanted.starts)
    if not pays and not memory:
        return None
    split = Split(*month[:3])
    if memory and memory.pays(month, parts := split.parts()):
        return memory.month(month, parts, progress)
    if not pays or len(split) < 2:
        return None
    if width:
        return spread_out(wanted.places, month, split.parts(), progress)
    if _IN_THE_WAY.is_likely(month):
        return None
    # Where none is to be kept for another month, small ones are sooner played several in a world.
    found = _apart(month, split.parts(_together(month.model, wanted.cores)), progress, wanted)
    if found is None:
        _IN_THE_WAY.remember(month)
    return found


class _InTheWay:
    """Months whose parts got in each other's way: those like them, of as many events, are played jointly without another try.

    A study plays hundreds of months that differ in a value or two, and each try takes as long as a month. Every now and then one is
    made all the same, since another value may have made room.
    """

    #: So many months are not tried after one that failed.
    _SPARED = 7

    def __init__(self) -> None:
        # Of functions and plans, the events expected of the month that failed, and how many are spared still.
        self._failed: dict[int, tuple[float, int]] = {}

    def is_likely(self, month: Month) -> bool:
        """Whether trying this month in parts is not worth while."""
        key = self._key(month)
        events, spared = self._failed.get(key, (math.inf, 0))
        if not spared or month.arrivals.expected < events:
            return False
        self._failed[key] = events, spared - 1
        return True

    def remember(self, month: Month) -> None:
        """The parts of this month got in each other's way."""
        # A few parts less, or a little less to do, makes no room.
        self._failed[self._key(month)] = month.arrivals.expected * 0.9, self._SPARED

    @staticmethod
    def _key(month: Month) -> int:
        # What parts share of a plan is its limits.
        offers = {offer.name: offer.plan for offer in month.placement.values()}
        plans = frozenset((name, p.concurrency_limit, p.scaling.burst, p.scaling.ramp) for name, p in offers.items())
        return hash((frozenset(month.model.functions), frozenset(month.model.environments), plans))


_IN_THE_WAY = _InTheWay()


def _may_be_parted(model: Model) -> bool:
    return not any(function.by_number for function in model.functions.values())


def _pays(model: Model, arrivals: Arrivals, cores: int) -> bool:
    """Whether parts would be played sooner: merging their levels takes time that a few functions do not win back."""
    units = model.units
    return (units >= _MANY and arrivals.expected > _EACH * units) or (cores > 1 and arrivals.expected > _BUSY)


def _together(model: Model, cores: int) -> int:
    """How many units stand in one world: no more than leave each core several worlds, so that none waits for long."""
    return _TOGETHER if cores == 1 else min(_TOGETHER, model.units // (TASKS * cores))


def _apart(
    month: Month, parts: list[Part], progress: Callable[[float], None] | None, wanted: Wanted
) -> Measured | None:
    """The month played part by part on this machine; None where parts got in each other's way."""
    ends = ends_here(parts)
    each = [Player.begun(part, month.placement, month.seed, month.bounds, len(ends)) for part in parts]
    if any(len(player.built.accounts) > MOST_ACCOUNTS for player in each):
        return None
    merged = Merged([player.built for player in each])
    if not _all_merged(merged, Players(each, ends, wanted.cores, progress)):
        return None
    level = merged.estate.until(parts[0].arrivals.length_ns)
    starts_ns = merged.starts_ns() if wanted.starts else None
    # Each world is let go once it has been read, so by whoever else holds them as well.
    del merged
    found = joined(month.model, [each.pop(0).measured() for _ in parts], level)
    return replace(found, starts_ns=starts_ns)


def _all_merged(merged: Merged, players: Players) -> bool:
    """Play every stretch and merge it while the next one is played; False where parts got in each other's way."""
    if players.cores == 1:
        return all(map(merged.stretch, players.stretches()))
    with ThreadPoolExecutor(1) as beside:
        before: Future[bool] | None = None
        for logs in players.stretches():
            if before and not before.result():
                return False
            before = beside.submit(merged.stretch, logs)
        return before is None or before.result()
