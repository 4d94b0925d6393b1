"""What a sample does not tell: what becomes of work for reasons that no stretch of an hour shows."""

from __future__ import annotations

from collections.abc import Iterable
from statistics import fmean
from typing import NamedTuple

import numpy as np

from echotally.engine.sampling.meeting import Crowding
from echotally.engine.sampling.player import Player
from echotally.engine.sampling.strata import Cut
from echotally.engine.sampling.totals import Total
from echotally.errors import Problem, TooLarge
from echotally.model.sources import SourceKind
from echotally.rates.unit_settings import run_ns

#: Where so much of what came to a function, and so many standard deviations of Poisson counts, is neither done nor known to be left
#: over, it is not known what becomes of it.
_UNTOLD, _CLEARLY = 0.02, 10.0
#: Such a share of a function's events, or of its attempts, that does not get what it came for is short of room.
_SHORT = 0.01


def left_out(parts: list[Total]) -> frozenset[str]:
    """Functions that surely got less done than came to them, in lanes that were none to be kept full; that is left over.

    Two of them may take turns at room that is enough for one: which has it depends on all that was before, of which a stretch of
    an hour knows nothing.
    """
    units = parts[0].built.units
    found = set()
    for n, each in enumerate(zip(*(part.come_less_ended() for part in parts), strict=True)):
        came = fmean(float(part.arrived[n]) for part in parts)
        if fmean(each) > _UNTOLD * came + _CLEARLY * came**0.5:
            found.add(units[n].function)
            for part, less in zip(parts, each, strict=True):
                part.left[n] += max(0.0, less)
    return frozenset(found)


def on_full_nodes(parts: list[Total]) -> frozenset[str]:
    """Functions on nodes that have no room for another instance, where some get less done than comes to them.

    Whose instances came first keep the room for as long as they are never idle for long, which may be for a month; a stretch of an
    hour has a beginning of its own.
    """
    found, units = set(), parts[0].built.units
    rooms: dict[tuple[str, str], list[int]] = {}
    for n, unit in enumerate(units):
        if unit.offer.plan.bills == "nodes" and unit.offer.plan.nodes_limit:
            rooms.setdefault(unit.billed_to, []).append(n)
    peaks = np.maximum.reduce([part.maxima.count_peak for part in parts]) if rooms else np.zeros(0)
    short = np.mean([part.short() for part in parts], axis=0) if rooms else np.zeros(0)
    for rows in rooms.values():
        plan = units[rows[0]].offer.plan
        memory = [float(units[n].settings.memory_mb) for n in rows]
        vcpu = [float(plan.vcpu_each or units[n].settings.vcpu) for n in rows]
        # As many of each as there ever were, and one more of the largest.
        full = any(
            float(np.dot(peaks[rows], each)) + max(each) > (plan.nodes_limit or 0) * float(whole or 0)
            for each, whole in ((memory, plan.node_memory), (vcpu, plan.node_vcpu))
        )
        if full and len(rows) > 1 and short[rows].max() > _SHORT:
            found |= {units[n].function for n in rows}
    return frozenset(found)


def taken_again(player: Player, been_full: Iterable[int]) -> frozenset[str]:
    """Functions whose runs outlast the time for which messages stay hidden, where such are left over: ``been_full`` are lanes.

    How often one is taken again while it is being handled hangs on when the runs of all others begin and end, which may lock into
    each other for a month; a stretch of an hour begins with its own.
    """
    found, model = set(), player.model
    for lane in (player.lanes[n] for n in been_full):
        _, source = player.first.sources[lane.source]
        if source.kind is not SourceKind.QUEUES:
            continue
        for trigger in (t for t in model.triggers if t.from_ == source):
            function, plan = model.functions[trigger.to], player.placement[trigger.to].plan
            run = run_ns(function, plan, function.run.mean, model.items_of(trigger))
            if min(run, function.timeout) > model.queues[source.name].visibility:
                found.add(trigger.to)
    return frozenset(found)


def sharing_room(parts: list[Total], untold: frozenset[str]) -> frozenset[str]:
    """Functions that come to a limit together with some that are ``untold``: what these do not get done may be theirs."""
    units, peaks = parts[0].built.units, [part.maxima for part in parts]
    crowding = Crowding(units, peaks, peaks[0].empty())
    rooms = {(u.account, u.offer.name) for u in units if u.function in untold and crowding.wants(u.account, u.offer)}
    return frozenset(u.function for u in units if (u.account, u.offer.name) in rooms) - untold


class Hidden(NamedTuple):
    """Of messages that failed and stay hidden: ``again``, which share of its tries a function gains by them beyond what stretches show
    at the most, and ``left``, which share of what came is hidden when the month ends.
    """

    again: float
    left: float


def hidden_for_long(player: Player, cut: Cut) -> dict[str, Hidden]:
    """What is hidden of each function that reads a queue and may fail; of several queues, of the one that hides for the longest."""
    found, model = dict[str, Hidden](), player.model
    for trigger in model.triggers:
        function = model.functions[trigger.to]
        fails = 1 - (1 - function.error_rate) * (1 - function.poison_rate)
        if fails and trigger.from_.kind is SourceKind.QUEUES:
            stays = model.queues[trigger.from_.name].visibility
            again = fails / max(1e-9, 1 - fails)
            hidden = Hidden(again if stays > cut.settles_ns else 0.0, again * stays / player.month.length_ns)
            found[trigger.to] = max(hidden, found.get(trigger.to, hidden))
    return found


def by_turns(month: str, expected: float) -> TooLarge:
    """What to tell of a month of so many events whose full lanes hand on much that never came."""
    return TooLarge(
        Problem(
            f"expects {expected:,.0f} events, of which a sample does not tell what becomes of them: work left over in "
            "several places takes the room they share by turns",
            month,
            allowed="--exact plays them all; or less demand, more room, one plan (--plan)",
        )
    )
