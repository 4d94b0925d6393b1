"""How many events a month will play, before it is played: followed through emits, topics and clients.

Why it exists: what is exact, sampled or refused is decided by counts, never by the clock, so that every machine decides
alike (design section 5). The count is an expectation: failures are left out, refused clients are not.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping

from echotally.demand.month import MonthPlan, Tap
from echotally.engine.sampling.ticking import Ticks
from echotally.engine.sampling.wiring import Wiring
from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns, unit_settings

#: Up to so many expected events a month is played exactly; so many a sample may play at the most.
SAMPLED_FROM = 40_000_000
#: Putting a sample together takes as long, for each function, as playing so many events, about: sketches are added up hour by hour.
OF_EACH_FUNCTION = 20_000


def expected_events(model: Model, month: MonthPlan, placement: Mapping[str, Offer]) -> float:
    """Events expected at all sources together: from outside, put out by functions, copied by topics and streams.

    A firing counts as one, whatever its items; what its items put out counts item by item.
    """
    return _expected(model, month, placement, month.taps)


def spared_events(model: Model, month: MonthPlan, placement: Mapping[str, Offer]) -> float:
    """Those of ``expected_events`` that a sample may leave out: what schedules bring is played whole, but for what ticks."""
    ticking = {tap.label for tap in Ticks(month).taps}
    taps = [tap for tap in month.taps if tap.source.kind is not SourceKind.SCHEDULES or tap.label in ticking]
    return _expected(model, month, placement, taps)


def worth_sampling(model: Model, month: MonthPlan, placement: Mapping[str, Offer], most: float) -> bool:
    """Whether a small sample takes less time than every event does: not below ``most`` events, nor where functions have few each."""
    units = model.units
    return spared_events(model, month, placement) > max(most, OF_EACH_FUNCTION * units)


def _expected(model: Model, month: MonthPlan, placement: Mapping[str, Offer], taps: Iterable[Tap]) -> float:
    asked = {tap.label: clients_ask(model, month, tap, placement) for tap in taps if tap.kind == "clients"}
    wiring = Wiring(model)
    outside: dict[tuple[str, SourceRef], float] = {}
    for tap in taps:
        # Environments are played apart: what comes in one never reaches another's functions.
        key = (tap.environment, tap.source)
        outside[key] = outside.get(key, 0.0) + asked.get(tap.label, tap.expected)
    total = 0.0
    for environment in model.environments:
        total += math.fsum(
            wiring.flows({s: n for (e, s), n in outside.items() if e == environment}).at_sources.values()
        )
    return total


def expected_flows(model: Model, month: MonthPlan) -> tuple[dict[str, float], dict[str, float]]:
    """Expected of the month over all environments: runs by function, if batches are full, and events by what puts them in, as
    ``rates.feasibility`` labels it.
    """
    by_function: dict[str, float] = defaultdict(float)
    by_label: dict[str, float] = defaultdict(float)
    outside: dict[str, dict[SourceRef, float]] = defaultdict(lambda: defaultdict(float))
    for tap in month.taps:
        outside[tap.environment][tap.source] += tap.expected
        label = f"demand {tap.demand}" if tap.demand else f"items of schedule {tap.source.name}"
        by_label[label] += tap.expected
    wiring = Wiring(model)
    for sources in outside.values():
        for name, events in wiring.flows(sources).at_functions.items():
            by_function[name] += events
    for name, function in model.functions.items():
        # Of several that go by one label none is told apart.
        for what, of in (("emits", function.emits), ("asks", function.asks)):
            if len(of) == 1:
                by_label[f"what {name} {what}"] = by_function[name] * of[0].each
    full = {name: max((model.items_of(t) for t in model.triggers if t.to == name), default=1) for name in by_function}
    return {name: events / full[name] for name, events in by_function.items()}, by_label


def sent_away(model: Model, month: MonthPlan, placement: Mapping[str, Offer]) -> float:
    """Attempts of a function that find no room, the most of any: how many there are in a month at the least.

    Pushed events beyond what its instances can take in all of the month are given up, each after all its attempts (rule 4.3).
    """
    rooms: dict[str, int] = {}
    for name in model.only_pushed():
        function, plan = model.functions[name], placement[name].plan
        limit = unit_settings(function, plan).limit
        if limit is not None and plan.bills != "reserved" and plan.scaling.kind != "polled":
            rooms[name] = len(model.environments) * limit * function.slots
    runs, most = expected_flows(model, month)[0] if rooms else {}, 0.0
    for name, room in rooms.items():
        function, plan = model.functions[name], placement[name].plan
        run = max(1.0, min(function.timeout, run_ns(function, plan, function.run.mean)))
        beyond = runs.get(name, 0.0) - room * month.clock.length_ns / run
        most = max(most, beyond * plan.push.attempts)
    return most


def wants_sampling(
    model: Model, month: MonthPlan, placement: Mapping[str, Offer], sampled_from: int | None = None
) -> bool:
    """Whether the month expects so many events that it is sampled (``sampled_from``: a bound of one's own)."""
    bound = SAMPLED_FROM if sampled_from is None else sampled_from
    return expected_events(model, month, placement) > bound


def clients_ask(model: Model, month: MonthPlan, tap: Tap, placement: Mapping[str, Offer]) -> float:
    """Requests a closed loop of clients makes in a month, answered and refused, at the most the function lets it.

    Asymptotic bounds of closed systems (Lazowska et al., "Quantitative System Performance", 1984, section 5.2):
    N / (think + run), no more than the servers answer; those who find none and may not wait come again.
    """
    name = next((t.to for t in model.triggers if t.from_ == tap.source), None)
    if name is None:
        return 0.0
    function, plan = model.functions[name], placement[name].plan
    run = min(function.timeout, run_ns(function, plan, function.run.mean))
    think = tap.think.mean
    answered = tap.clients / max(run + think, 1.0)
    limit = unit_settings(function, plan).limit
    # What reserved instances hold at once depends on everyone else on them, so that it bounds nothing here.
    rooms = math.inf if limit is None or plan.bills == "reserved" else float(limit * function.slots)
    capacity = rooms / max(run, 1.0)
    rate = min(answered, capacity)
    # Those who find no room come back after a pause, again and again: refusals can be many times the answers.
    if plan.wait_limit == 0 and answered > capacity:
        rate += (tap.clients - rooms) / max(think, tap.refused_pause_ns)
    return rate * month.clock.length_ns
