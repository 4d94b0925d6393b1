"""Losses that follow from the model alone: the chance that an event is given up where its tries fail independently.

Why it exists: 310 expected dead letters of five million events are a handful in any sample. Where each try fails with the
same chance, whatever the load, the expectation is known exactly and is not sampled (expected-value estimators: Law and
Kelton, "Simulation Modeling and Analysis", section 11.5).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from msgspec import Struct

from echotally.model.estate import Function, Model, Trigger
from echotally.model.sources import SourceKind
from echotally.model.spread import CONSTANT
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns, share_longer, unit_settings

_NONE = 1e-15
#: A cold start longer than this quantile is not waited for.
_ALMOST = 1 - 1e-9


class Loss(Struct, frozen=True):
    """The chance that an event of a function is given up, where it goes, and how many are given up together.

    ``unless_throttled``: calls sent away for lack of room may be given up as well.
    """

    chance: float
    dead_letter: bool
    together: int
    unless_throttled: bool = False


def known_losses(model: Model, placement: Mapping[str, Offer]) -> dict[str, Loss]:
    """Functions whose events are given up with a known chance; the others are left out."""
    found = {}
    into: dict[str, list[Trigger]] = {name: [] for name in model.functions}
    for trigger in model.triggers:
        into[trigger.to].append(trigger)
    readers = Counter(trigger.from_ for trigger in model.triggers)
    for name, triggers in into.items():
        if _depends(model, name, placement[name].plan):
            continue
        # Of two triggers on one source it is not known who takes which event.
        if len(triggers) == 1 and readers[triggers[0].from_] == 1:
            loss = _loss(model, model.functions[name], triggers[0], placement[name].plan)
            if loss is not None:
                found[name] = loss
    return found


def events_a_call(model: Model) -> dict[str, int]:
    """The most events that a call of each function carries: they may share its fate."""
    found = dict.fromkeys(model.functions, 1)
    for trigger in model.triggers:
        found[trigger.to] = max(found[trigger.to], model.items_of(trigger))
    return found


def _depends(model: Model, name: str, plan: Plan) -> bool:
    """Whether tries fail for other reasons than their own lots, or not independently of each other (rule 8)."""
    function = model.functions[name]
    troubled = any(incident.functions is None or name in incident.functions for incident in model.incidents)
    return bool(troubled or function.asks or function.retry_run == "same" or plan.timeout_covers_cold_start)


def _loss(model: Model, function: Function, trigger: Trigger, plan: Plan) -> Loss | None:
    kind = trigger.from_.kind
    if plan.payload_limit is not None:
        return None
    if kind is SourceKind.ENDPOINTS:
        return Loss(0.0, False, 1)
    longer = _cut(model, function, trigger, plan)
    if longer is None:
        return None
    # Its own error and the timeout, independently of each other.
    fails = 1 - (1 - function.error_rate) * (1 - longer)
    alone = trigger.batch == 1 or trigger.on_failure == "failed" or not kind.traits.batched
    if function.poison_rate and not alone:
        return None
    # A whole batch, or firing, is given up at once, which makes counts scatter more than single events do.
    together = model.items_of(trigger) if kind is SourceKind.SCHEDULES or not alone else 1
    if kind is SourceKind.QUEUES:
        return _of_queue(model, function, trigger, plan, fails, together)
    tries = trigger.tries_in_force
    if kind is SourceKind.STREAMS:
        if tries is None:
            # Tried until it is too old: where tries can fail for good that is not known beforehand.
            return Loss(0.0, False, 1) if not function.poison_rate and fails < 0.5 else None
        if trigger.on_failure == "failed" and longer > _NONE:
            return None
    sent_away = kind is not SourceKind.STREAMS and plan.bills != "reserved" and plan.scaling.kind != "polled"
    return Loss(_given_up(function, fails, tries or 1), trigger.dead_letter is not None, together, sent_away)


def _given_up(function: Function, fails: float, tries: int) -> float:
    """Poison fails for certain; the rest with ``fails`` each time, independently."""
    return function.poison_rate + (1 - function.poison_rate) * fails**tries


def _of_queue(
    model: Model, function: Function, trigger: Trigger, plan: Plan, fails: float, together: int
) -> Loss | None:
    queue = model.queues[trigger.from_.name]
    longest = run_ns(function, plan, function.run.quantile(_ALMOST), trigger.batch) * _crowded(function, plan)
    longest = min(longest, function.timeout) + function.cold_start.quantile(_ALMOST) * plan.cold_start_factor
    # A message that may come back while it is still running is tried oftener than its failures say.
    if plan.pull == "eager" or queue.visibility < longest:
        return None
    if queue.dead_letter is None:
        # Tried again until its retention: many tries later none is left, unless it is poison.
        many = queue.retention // max(1, queue.visibility)
        return Loss(0.0, False, 1) if not function.poison_rate and fails ** max(1, many) < _NONE else None
    return Loss(_given_up(function, fails, queue.tries), True, together)


def _crowded(function: Function, plan: Plan) -> float:
    """How much a run is stretched at the most, in an instance full of its own kind."""
    settings = unit_settings(function, plan)
    load = function.slots * settings.cpu_part * settings.vcpu_used
    return max(1.0, load / settings.vcpu) if settings.vcpu else 1.0


def _cut(model: Model, function: Function, trigger: Trigger, plan: Plan) -> float | None:
    """The chance that a run is cut by the timeout, if it is the same for every run; None where it depends."""
    kind = trigger.from_.kind
    limit = min(function.timeout, plan.timeout_limit or function.timeout)
    items = model.items_of(trigger)
    if function.per_mb:
        return None
    crowded = _crowded(function, plan)
    if plan.bills == "reserved" or crowded > 1.0:
        worst = run_ns(function, plan, function.run.scale, items) * crowded
        certain = function.run.kind == CONSTANT and plan.bills != "reserved" and worst <= limit
        return 0.0 if certain else None
    most = share_longer(function, plan, limit, items)
    # Batches of any size from one up are run; only where all are cut alike is the chance one number.
    least = most if kind is SourceKind.SCHEDULES or not function.per_item else share_longer(function, plan, limit, 1)
    if most < _NONE:
        return 0.0
    return most if most == least else None
