"""Whether a function fits a plan, and if not, why, in plain words."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping

from msgspec import Struct

from echotally.model.estate import Function, Model, Schedule, Trigger
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.spread import Spread
from echotally.model.units import about_size, duration_text, memory_text
from echotally.rates.card import Plan
from echotally.rates.unit_settings import batch_sizes, share_longer


class Expected(Struct, frozen=True):
    """How many there are in the month, about: runs of each function, and events of what puts them in, by its label."""

    runs: Mapping[str, float]
    events: Mapping[str, float]


def reasons_against(model: Model, name: str, plan: Plan, expected: Expected | None = None) -> list[str]:
    """Why function ``name`` cannot run on ``plan``; empty if it can (rule 6.7).

    With ``expected``, reasons that depend on a distribution say of how many of the month they hold.
    """
    function = model.functions[name]
    return [
        *_plan_reasons(plan),
        *_timeout_reasons(model, name, plan, expected),
        *_size_reasons(function, plan),
        *_trigger_reasons(model, name, plan, expected),
    ]


def _plan_reasons(plan: Plan) -> list[str]:
    if plan.available is True:
        return []
    return [f"plan not available: {plan.available}" if isinstance(plan.available, str) else "plan not available"]


def _about(share: float, of: float | None) -> str:
    """Of how many that is, where it is known and some are."""
    return f", about {share * of:,.0f} of the month's" if of is not None and 0 < share < 1 and share * of >= 1 else ""


def _timeout_reasons(model: Model, name: str, plan: Plan, expected: Expected | None) -> list[str]:
    function, limit = model.functions[name], plan.timeout_limit
    if limit is None or function.timeout <= limit:
        return []
    # Of several triggers the one with the largest batch runs longest.
    longer = max(share_longer(function, plan, limit, items) for items in batch_sizes(model, name))
    return [
        f"timeout {duration_text(function.timeout)}; this plan ends runs at {duration_text(limit)}; "
        f"{_percent(longer)} of your runs are longer{_about(longer, expected.runs.get(name) if expected else None)}"
    ]


def _size_reasons(function: Function, plan: Plan) -> list[str]:
    reasons = []
    if plan.bills != "reserved" and plan.slots_limit is not None and function.slots > plan.slots_limit:
        reasons.append(f"{function.slots} slots an instance; this plan allows {plan.slots_limit}")
    if function.memory > plan.memory.largest_mb:
        reasons.append(
            f"memory {memory_text(function.memory)}; the largest size here is {memory_text(plan.memory.largest_mb)}"
        )
    if function.used_mb > function.memory:
        reasons.append(f"a run uses {memory_text(function.used_mb)} and is given {memory_text(function.memory)}")
    if plan.bills == "reserved" and plan.instance_memory is not None:
        room = plan.instance_memory * (1 - plan.used_by_others[0])
        if function.memory > room:
            reasons.append(f"memory {memory_text(function.memory)}; an instance has {room:g} MB left for this estate")
    if plan.bills == "nodes" and plan.node_memory is not None and plan.node_vcpu is not None:
        # What is placed on a node is the size that is sold, not the size that was asked for.
        memory = plan.memory.round_up(function.memory) or plan.memory.largest_mb
        vcpu = plan.vcpu_each or plan.vcpu(memory)
        if memory > plan.node_memory or vcpu > plan.node_vcpu:
            reasons.append(f"an instance of {memory_text(memory)} and {vcpu:g} vCPU does not fit on a node")
    return reasons


def _dialect(schedule: Schedule) -> str:
    """The form a schedule is written in, by the name that cards give it."""
    if schedule.cron is None:
        return "every" if schedule.every is not None else "rrule"
    fields = schedule.cron.split()
    # An @-form stands for five fields.
    return "five" if len(fields) <= 5 else "seconds-first" if schedule.seconds else "year-last"


def _schedule_reasons(model: Model, trigger: Trigger, plan: Plan) -> list[str]:
    if plan.cron_dialect is None or trigger.from_.kind is not SourceKind.SCHEDULES:
        return []
    form = _dialect(model.schedules[trigger.from_.name])
    if form in plan.cron_dialect:
        return []
    return [f"{trigger.from_} is written as {form}; this plan takes {', '.join(plan.cron_dialect)}"]


def _trigger_reasons(model: Model, name: str, plan: Plan, expected: Expected | None) -> list[str]:
    reasons = []
    feeding = _feeding(model)
    for trigger in feeding.triggers.get(name, ()):
        kind = trigger.from_.kind
        if kind not in plan.sources:
            reasons.append(f"this plan takes no {kind} ({trigger.from_})")
        if plan.batch_limit is not None and trigger.batch > plan.batch_limit:
            reasons.append(f"batch {trigger.batch} from {trigger.from_}; this plan allows {plan.batch_limit}")
        reasons += _schedule_reasons(model, trigger, plan)
        for label, payload in feeding.payloads(trigger.from_):
            p95, limit = payload.quantile(0.95), plan.payload_limit
            if limit is not None and p95 > limit:
                above = payload.share_above(limit)
                many = _about(above, expected.events.get(label) if expected else None)
                reasons.append(
                    f"{label}: p95 payload {about_size(p95)}; this plan carries {about_size(limit)}; "
                    f"{_percent(above)} of them are larger{many}"
                )
    return reasons


class Feeding:
    """Who is triggered by what, and the payload of everything that is put into each source."""

    def __init__(self, model: Model) -> None:
        self.triggers: dict[str, list[Trigger]] = defaultdict(list)
        for trigger in model.triggers:
            self.triggers[trigger.to].append(trigger)
        self._topics: dict[str, list[str]] = defaultdict(list)
        for name, topic in model.topics.items():
            # Twice into one queue is one way to it.
            for into in dict.fromkeys(feed.into for feed in topic.feeds):
                self._topics[into].append(f"topics.{name}")
        self._put: dict[str, list[tuple[int, str, Spread]]] = defaultdict(list)
        every = [(demand.into, f"demand {name}", demand.payload) for name, demand in model.demand.items()]
        every += [
            (SourceRef.of(SourceKind.SCHEDULES, name), f"items of schedule {name}", schedule.payload)
            for name, schedule in model.schedules.items()
        ]
        for name, f in model.functions.items():
            every += [(emit.into, f"what {name} emits", emit.payload) for emit in f.emits]
            every += [(ask.to, f"what {name} asks", ask.payload) for ask in f.asks]
        for n, (into, label, payload) in enumerate(every):
            self._put[into].append((n, label, payload))

    def payloads(self, source: str) -> list[tuple[str, Spread]]:
        """Of what is put into a source, topics followed back one step, in the order of the file."""
        found = [each for into in (source, *self._topics[source]) for each in self._put[into]]
        return [(label, payload) for _, label, payload in sorted(found, key=lambda each: each[0])]


_LAST: list[tuple[Model, Feeding]] = []


def _feeding(model: Model) -> Feeding:
    """Of the model asked for last it is kept: every function is asked for in turn."""
    last = _LAST[-1] if _LAST else None
    if last is None or last[0] is not model:
        last = (model, Feeding(model))
        _LAST[:] = [last]
    return last[1]


def memory_hint(function: Function, plan: Plan) -> str | None:
    """What is said where a plan does not sell the memory size asked for."""
    sold = plan.memory.round_up(function.memory)
    if sold is None or sold == function.memory:
        return None
    return f"memory {memory_text(function.memory)} is not sold here; {memory_text(sold)} is run and billed"


def limit_hint(function: Function, plan: Plan) -> str | None:
    """What is said where the plan's instance limit is below the function's."""
    if function.instance_limit is None or plan.instance_limit is None or plan.bills == "reserved":
        return None
    if plan.instance_limit >= function.instance_limit:
        return None
    return f"instance limit {function.instance_limit} is above the plan's {plan.instance_limit}, which holds"


def _percent(share: float) -> str:
    return (
        "none"
        if share <= 0
        else "all"
        if share >= 1
        else "less than 0.01 %"
        if share < 0.0001
        else "nearly all"
        if share > 0.995
        else f"{share * 100:.2g} %"
    )
