"""What events cost: their parts of attempts, batches, sends; and what of a bill belongs to no event (rule 11.3).

A unit of a meter costs what the bill asks for all of it, divided by how much there was: allowances and tiers are shared by all.
Time is shared by what attempts are charged for, as in rule 10.1. So all events and what belongs to none sum to the bill.
"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal, localcontext
from functools import cached_property

from echotally.engine.reading import SourceMeasured, UnitMeasured
from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.projection.answer import PlayedPlan
from echotally.projection.metering import Account, UnitKey, payers_of
from echotally.rates.billing import exact
from echotally.rates.meters import COMMITMENT, OUTSIDE
from echotally.rates.outside import OUTSIDE_ACCOUNT

#: Meters that one event more puts in at a source.
_SENDS = {
    SourceKind.QUEUES: "queue_operations",
    SourceKind.TOPICS: "topic_publishes",
    SourceKind.STREAMS: "stream_writes",
    SourceKind.FOLDERS: "storage_operations",
}
_TIMES = ("gb_seconds", "vcpu_seconds", COMMITMENT)
_PAID_FOR = ("instance_hours", "allocated_gb_seconds", "allocated_vcpu_seconds", "reserved_hours", "node_hours")
IDLE_POLLS, IDLE_TIME, PARTITIONS, KEPT, MONTHLY, PREPAID, OTHER = (
    "idle polls of queues",
    "floors and idle time",
    "stream partitions",
    "packages kept",
    "monthly items",
    "prepaid hours not used",
    "other",
)
_OF_NOBODY = {
    "stream_partition_hours": PARTITIONS,
    "storage_gb_months": KEPT,
    "flat_months": MONTHLY,
    "cluster_hours": MONTHLY,
    "idle_gb_seconds": IDLE_TIME,
    "idle_vcpu_seconds": IDLE_TIME,
    **dict.fromkeys(_PAID_FOR, IDLE_TIME),
    COMMITMENT: PREPAID,
}


class Prices:
    """What a month's bill comes to for one attempt, request, reply, use or event."""

    def __init__(self, model: Model, plan: PlayedPlan) -> None:
        self.model, self.plan = model, plan
        self.units = {unit.key: unit for unit in plan.measured.units}
        self.sources = {(s.environment, s.source): s for s in plan.measured.sources}

    @cached_property
    def _payers(self) -> dict[tuple[str, SourceRef], list[tuple[Account, UnitKey | None, Decimal]]]:
        with localcontext(exact()):
            payers = payers_of(self.model, self.plan.measured, self.plan.offer)
        return {where: [(p.account, p.unit, p.part) for p in found] for where, found in payers.items()}

    @cached_property
    def _amounts(self) -> dict[tuple[Account, str], Decimal]:
        """What each account pays for a meter."""
        found: dict[tuple[Account, str], Decimal] = {}
        for line in self.plan.bill.lines:
            key = ((line.account, line.plan), line.meter)
            found[key] = found.get(key, Decimal(0)) + line.amount
        return found

    def each(self, account: Account, meter: str) -> Decimal:
        """What one of a meter costs: all that the account pays for it, by how much there was."""
        quantity = self._quantity(account, meter)
        return self._amounts.get((account, meter), Decimal(0)) / quantity if quantity else Decimal(0)

    def _quantity(self, account: Account, meter: str) -> Decimal:
        return self._quantities.setdefault((account, meter), self.plan.metered.total(account, meter))

    @cached_property
    def _quantities(self) -> dict[tuple[Account, str], Decimal]:
        return {}

    def attempt(self, key: UnitKey, charged_ns: int) -> Decimal:
        """What an attempt that started costs: its call, its log, and the time it is charged for."""
        with localcontext(exact()):
            return self._per_start(key) + self._per_ns(key) * charged_ns

    def _per_start(self, key: UnitKey) -> Decimal:
        unit, function = self.units[key], self.model.functions[key[0]]
        account = unit.unit.billed_to
        cost = self.each(account, "calls")
        for meter, n in unit.unit.offer.plan.per_call.items():
            cost += n * self.each(account, meter)
        return cost + self.each(account, "log_gb") * function.log_bytes / self._gigabyte(unit)

    def _gigabyte(self, unit: UnitMeasured) -> Decimal:
        return Decimal(2**30 if unit.unit.offer.card.gigabyte == "binary" else 10**9)

    def _per_ns(self, key: UnitKey) -> Decimal:
        """What a nanosecond costs that an attempt of a unit is charged for."""
        charged = sum(self.units[key].outcomes.times_ns.values())
        return self._of_time(key) / charged if charged else Decimal(0)

    def _of_time(self, key: UnitKey) -> Decimal:
        """What a unit pays for time with calls: of instances' lives the part with runs, the rest is idle."""
        unit, shares = self.units[key], self.plan.bill.shares[key]
        cost = sum((shares.get(meter, Decimal(0)) for meter in _TIMES), Decimal(0))
        paid = sum((shares.get(meter, Decimal(0)) for meter in _PAID_FOR), Decimal(0))
        if unit.unit.offer.plan.bills == "allocated":
            busy = sum(ns for outcome, ns in unit.outcomes.times_ns.items() if outcome != "cold starts")
            paid = paid * busy / max(busy, unit.life_ns) if busy else Decimal(0)
        return cost + paid

    def request(self, key: UnitKey) -> Decimal:
        """What one request asked costs, each try counted."""
        with localcontext(exact()):
            return self.each(self.units[key].unit.billed_to, "gateway_requests")

    def reply(self, key: UnitKey) -> Decimal:
        """What a reply that leaves costs."""
        unit = self.units[key]
        with localcontext(exact()):
            each = self.each(unit.unit.billed_to, "egress_gb")
            return each * self.model.functions[key[0]].reply_bytes / self._gigabyte(unit)

    def uses(self, key: UnitKey, items: int, good: bool) -> Decimal:
        """What the uses of outside services by one event in one attempt cost; ``good``: it was handled."""
        cost = Decimal(0)
        with localcontext(exact()):
            for use in self.model.functions[key[0]].uses:
                if use.on != "handled" or good:
                    cost += Decimal(repr(use.each)) * items * self.each(OUTSIDE_ACCOUNT, OUTSIDE + use.what)
        return cost

    def comes(self, source: SourceRef, environment: str) -> Decimal:
        """What it costs that an event is put in at a source: a send, publish, write or file."""
        meter = _SENDS.get(source.kind)
        return self.operations(source, environment, Decimal(1)) if meter else Decimal(0)

    def operations(self, source: SourceRef, environment: str, n: Decimal) -> Decimal:
        """What ``n`` operations at a source cost: sends, receives and deletes are counted alike."""
        meter = _SENDS[source.kind]
        with localcontext(exact()):
            payers = self._payers[environment, source]
            return n * sum((part * self.each(account, meter) for account, _, part in payers), Decimal(0))

    def firing(self, key: UnitKey) -> Decimal:
        """What one firing costs that a schedule hands to a unit."""
        with localcontext(exact()):
            return self.each(self.units[key].unit.billed_to, "schedule_firings")

    def of_nobody(self) -> dict[str, Decimal]:
        """What of the bill belongs to no event, by name, unrounded."""
        found: dict[str, Decimal] = {}
        with localcontext(exact()):
            for name, amount in self._nobodys():
                if amount:
                    found[name] = found.get(name, Decimal(0)) + amount
        return found

    def _nobodys(self) -> Iterator[tuple[str, Decimal]]:
        for (account, meter), amount in self._amounts.items():
            owners = self.plan.metered.quantities[account].get(meter, {})
            of_units = sum((self.plan.bill.shares[key].get(meter, Decimal(0)) for key in owners if key), Decimal(0))
            if meter in (*_PAID_FOR, COMMITMENT):
                own = of_units if meter != COMMITMENT else self._committed(account)
                yield _OF_NOBODY[meter], amount - own
            elif meter in _OF_NOBODY:
                yield _OF_NOBODY[meter], amount
        for unit in self.units.values():
            yield from self._without_calls(unit)
        for source in self.plan.measured.sources:
            if source.source.kind is SourceKind.QUEUES:
                yield IDLE_POLLS, self._idle_polls(source)

    def _committed(self, account: Account) -> Decimal:
        own = [key for key, unit in self.units.items() if unit.unit.billed_to == account]
        return sum((self.plan.bill.shares[key].get(COMMITMENT, Decimal(0)) for key in own), Decimal(0))

    def _without_calls(self, unit: UnitMeasured) -> Iterator[tuple[str, Decimal]]:
        """What a unit pays for time in which no attempt ran, or of which no attempt is charged for any."""
        shares = self.plan.bill.shares[unit.key]
        whole = sum((shares.get(meter, Decimal(0)) for meter in (*_TIMES, *_PAID_FOR)), Decimal(0))
        charged = sum(unit.outcomes.times_ns.values())
        yield IDLE_TIME, whole - (self._of_time(unit.key) if charged else Decimal(0))

    def _idle_polls(self, source: SourceMeasured) -> Decimal:
        account, _, _ = self._payers[source.environment, source.source][0]
        plan = self.plan.metered.plans[account]
        readers = sum(1 for trigger in self.model.triggers if trigger.from_ == source.source)
        polls = Decimal(source.idle_ns) * plan.idle_readers * readers / Decimal(plan.poll_wait)
        return polls * self.each(account, "queue_operations")
