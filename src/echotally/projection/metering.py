"""From what the engine measured to the quantities a plan bills, and whose they are (rules 6.2 to 6.6)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from decimal import Decimal, localcontext
from typing import NamedTuple

from msgspec import Struct, field
from msgspec.structs import replace

from echotally.engine.codes import ARRIVALS
from echotally.engine.play import NO_MARKS, Marks
from echotally.engine.reading import Measured, PutIn, SourceMeasured, UnitMeasured
from echotally.model.estate import Model
from echotally.model.sources import SourceKind, SourceRef
from echotally.rates.billing import exact
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer
from echotally.rates.commitments import Hour
from echotally.rates.meters import OUTSIDE
from echotally.rates.outside import OUTSIDE_ACCOUNT, outside_plan

Account = tuple[str, str]
UnitKey = tuple[str, str]
#: Meters that a plan bills once an account as well, whoever is on it.
PAID_ONCE = ("flat_months", "storage_gb_months")
#: Kinds whose every reader gets a copy: what was put in is counted, not what arrived.
_COPIED = (SourceKind.STREAMS, SourceKind.TOPICS, SourceKind.FOLDERS)
_HOUR_NS = 3_600 * 10**9
_NS_PER_S, _NS_PER_H = Decimal(10**9), Decimal(3_600 * 10**9)


class Metered(Struct, frozen=True):
    """Quantities by (account, plan), meter and unit (function, environment); None: belongs to no function.

    ``hours`` are the same hour by hour, of accounts with a commitment.
    """

    quantities: dict[Account, dict[str, dict[UnitKey | None, Decimal]]]
    plans: dict[Account, Plan]
    hours: dict[Account, list[Hour[UnitKey | None]]] = field(default_factory=dict)

    def total(self, account: Account, meter: str) -> Decimal:
        """The account's quantity of a meter."""
        return sum(self.quantities[account].get(meter, {}).values(), Decimal(0))

    def totals(self) -> dict[Account, dict[str, Decimal]]:
        """Every account's quantity of each meter."""
        return {
            account: {name: self.total(account, name) for name in meters} for account, meters in self.quantities.items()
        }


class Payer(NamedTuple):
    """Who pays for a part of a source's quantity: an account, one of its units (None: no function), and which part."""

    account: Account
    unit: UnitKey | None
    part: Decimal


class _Meters:
    def __init__(self, model: Model, measured: Measured, candidate: Offer, month_ns: int) -> None:
        self.model, self.measured = model, measured
        # What is billed by the month, as far as the month has gone.
        self.gone = Decimal(measured.month_ns) / month_ns
        self.units = {(u.unit.function, u.unit.environment): u for u in measured.units}
        self.plans = {(u.unit.account, u.unit.offer.name): u.unit.offer.plan for u in measured.units}
        self.cards = {(u.unit.account, u.unit.offer.name): u.unit.offer.card for u in measured.units}
        self.candidate = candidate
        self.triggers = model.triggers_by_source()
        self.came: dict[tuple[str, str], int] = {
            (s.environment, s.source): s.arrived or s.sends for s in measured.sources
        }
        self.put_in: dict[tuple[str, str], list[PutIn]] = defaultdict(list)
        for put in measured.put_in:
            self.put_in[put.environment, put.source].append(put)
        self.found: dict[Account, dict[str, dict[UnitKey | None, Decimal]]] = {
            account: defaultdict(lambda: defaultdict(Decimal)) for account in self.plans
        }

    def add(self, account: Account, meter: str, unit: UnitKey | None, quantity: Decimal | int) -> None:
        if quantity:
            self.found[account][meter][unit] += Decimal(quantity)

    def everything(self) -> Metered:
        with localcontext(exact()):
            for key, unit in self.units.items():
                account = (unit.unit.account, unit.unit.offer.name)
                self._compute(account, key, unit)
                self._beside(account, key, unit)
            for source in self.measured.sources:
                self._source(source)
            for account, plan in self.plans.items():
                self._shared(account, plan)
            self._outside()
        return Metered({a: {m: dict(q) for m, q in meters.items()} for a, meters in self.found.items()}, self.plans)

    def _compute(self, account: Account, key: UnitKey, unit: UnitMeasured) -> None:
        plan, settings = unit.unit.offer.plan, unit.unit.settings
        # The digits a vCPU is written in, not those of the float nearest to it.
        gb, vcpu = Decimal(settings.memory_billed_mb) / 1024, Decimal(repr(settings.vcpu))
        self.add(account, "calls", key, unit.started)
        for meter, n in plan.per_call.items():
            self.add(account, meter, key, n * unit.started)
        billed, idle, life = (Decimal(ns) / _NS_PER_S for ns in (unit.billed_ns, unit.idle_floor_ns, unit.life_ns))
        if plan.bills in ("runs", "active"):
            self.add(account, "gb_seconds", key, billed * gb)
            self.add(account, "vcpu_seconds", key, billed * vcpu)
            # Idle floors are paid for what they hold, whatever a run uses of it (rule 7.37).
            given = Decimal(settings.memory_mb) / 1024
            self.add(account, "idle_gb_seconds", key, idle * given)
            self.add(account, "idle_vcpu_seconds", key, idle * vcpu)
        elif plan.bills == "allocated":
            self.add(account, "instance_hours", key, life / 3_600)
            self.add(account, "allocated_gb_seconds", key, life * gb)
            self.add(account, "allocated_vcpu_seconds", key, life * vcpu)

    def _beside(self, account: Account, key: UnitKey, unit: UnitMeasured) -> None:
        function = self.model.functions[unit.unit.function]
        gigabyte = Decimal(2**30 if self.cards[account].gigabyte == "binary" else 10**9)
        self.add(account, "gateway_requests", key, unit.requests)
        self.add(account, "log_gb", key, Decimal(function.log_bytes * unit.started) / gigabyte)
        self.add(account, "egress_gb", key, Decimal(function.reply_bytes * unit.replies) / gigabyte)
        self.add(account, "storage_gb_months", key, Decimal(function.package) / gigabyte * self.gone)

    def _outside(self) -> None:
        """Uses of outside services, under an account of their own: they are the same on every plan."""
        plan = outside_plan(self.model, self.candidate.card.currency)
        if plan is None:
            return
        self.plans[OUTSIDE_ACCOUNT] = plan
        self.found[OUTSIDE_ACCOUNT] = defaultdict(lambda: defaultdict(Decimal))
        for key, unit in self.units.items():
            for use in self.model.functions[unit.unit.function].uses:
                events = unit.served if use.on == "handled" else unit.started_items
                self.add(OUTSIDE_ACCOUNT, OUTSIDE + use.what, key, Decimal(repr(use.each)) * events)

    def _readers(self, source: SourceRef) -> list[str]:
        """Functions a source belongs to: its triggers', or those of the queues a topic feeds."""
        # Each once, in the file's order, which is the order in which equal parts are given.
        direct = list(dict.fromkeys(t.to for t in self.triggers.get(source, [])))
        if direct or source.kind is not SourceKind.TOPICS:
            return direct
        fed = [f for feed in self.model.topics[source.name].feeds for f in self._readers(feed.into)]
        return list(dict.fromkeys(fed))

    def _owners(self, source: SourceMeasured) -> list[tuple[Account, UnitKey | None]]:
        """Accounts and units a source's quantities go to, in equal parts."""
        readers = [(name, source.environment) for name in self._readers(source.source)]
        if readers:
            units = [self.units[key] for key in readers]
            return [((u.unit.account, u.unit.offer.name), key) for u, key in zip(units, readers, strict=True)]
        account = self.model.environments[source.environment].account or ""
        own = (account, self.candidate.name)
        return [(own if own in self.plans else next(a for a in self.plans if a[0] == account), None)]

    def _source(self, source: SourceMeasured) -> None:
        kind = source.source.kind
        account = self._owners(source)[0][0]
        for meter, quantity in self._source_quantities(kind, source, account):
            for payer in self.payers(source, meter):
                self.add(payer.account, meter, payer.unit, Decimal(quantity) * payer.part)
        if kind is SourceKind.SCHEDULES:
            for trigger in self.triggers.get(source.source, []):
                unit = self.units[trigger.to, source.environment]
                self.add(
                    (unit.unit.account, unit.unit.offer.name),
                    "schedule_firings",
                    (trigger.to, source.environment),
                    source.sends,
                )

    def payers(self, source: SourceMeasured, meter: str) -> list[Payer]:
        """Who pays for a source's quantity of a meter, and which part of it; the parts sum to 1."""
        owners = self._owners(source)
        if not self._readers(source.source):
            return list(self._writers(source, meter, owners[0]))
        shared = owners if source.source.kind.traits.shared_out else owners[:1]
        return [Payer(account, key, 1 / Decimal(len(shared))) for account, key in shared]

    def _writers(
        self, source: SourceMeasured, meter: str, otherwise: tuple[Account, UnitKey | None]
    ) -> Iterator[Payer]:
        """Output nobody reads is its writers': by what each put in, partition-hours in equal parts (rule 7.64)."""
        parts = self._written(source.environment, source.source, Decimal(1))
        parts = {key: part for key, part in parts.items() if part}
        if meter == "stream_partition_hours" and parts:
            # A partition is there however little is written to it.
            parts = dict.fromkeys(parts, 1 / Decimal(len(parts)))
        for key, part in parts.items():
            unit = self.units[key].unit
            yield Payer((unit.account, unit.offer.name), key, part)
        # What demand puts in belongs to no function.
        yield Payer(*otherwise, 1 - sum(parts.values(), Decimal(0)))

    def _written(self, environment: str, source: str, share: Decimal) -> dict[UnitKey, Decimal]:
        """Parts of ``share`` of a source's events by the function that put them in, topics followed back."""
        found: dict[UnitKey, Decimal] = defaultdict(Decimal)
        came = self.came[environment, source]
        for put in self.put_in[environment, source] if came else ():
            part = share * Decimal(put.events) / Decimal(came)
            if put.topic:
                for key, more in self._written(environment, put.writer, part).items():
                    found[key] += more
            else:
                found[put.writer, environment] += part
        return found

    def _source_quantities(
        self, kind: str, source: SourceMeasured, account: Account
    ) -> Iterator[tuple[str, Decimal | int]]:
        plan = self.plans[account]
        if kind is SourceKind.QUEUES:
            readers = len(self.triggers.get(source.source, []))
            # Of a time, so it is not whole (rule 7.14).
            polls = Decimal(source.idle_ns) * plan.idle_readers * readers / Decimal(plan.poll_wait)
            yield "queue_operations", source.sends + source.receives + source.deletes + polls
        elif kind is SourceKind.TOPICS:
            yield "topic_publishes", source.sends
        elif kind is SourceKind.STREAMS:
            partitions = self.model.streams[source.source.name].partitions
            yield "stream_partition_hours", partitions * Decimal(self.measured.month_ns) / _NS_PER_H
            yield "stream_writes", source.sends
        elif kind is SourceKind.FOLDERS:
            yield "storage_operations", source.sends

    def _shared(self, account: Account, plan: Plan) -> None:
        """Reserved and node time: each function its busy GB-seconds' part of what is paid for."""
        month = Decimal(self.measured.month_ns)
        self.add(account, "flat_months", None, self.gone)
        gigabyte = Decimal(2**30 if self.cards[account].gigabyte == "binary" else 10**9)
        self.add(account, "storage_gb_months", None, Decimal(plan.store) / gigabyte * self.gone)
        if plan.bills == "reserved":
            instances = Decimal(plan.instances or 0) * (1 - Decimal(repr(plan.paid_by_others)))
            self._by_busy_time(account, "reserved_hours", instances * month, Decimal(plan.instance_memory or 1))
        elif plan.bills == "nodes":
            self.add(account, "cluster_hours", None, month / _NS_PER_H)
            self._by_busy_time(
                account, "node_hours", Decimal(self.measured.node_ns[account]), Decimal(plan.node_memory or 1)
            )

    def _by_busy_time(self, account: Account, meter: str, paid_ns: Decimal, memory_mb: Decimal) -> None:
        left = paid_ns
        for key, unit in self.units.items():
            if (unit.unit.account, unit.unit.offer.name) == account and paid_ns:
                # No more than is paid for: calls may share an instance's memory.
                part = min(left, Decimal(unit.busy_ns) * unit.unit.settings.memory_mb / memory_mb)
                self.add(account, meter, key, part / _NS_PER_H)
                left -= part
        self.add(account, meter, None, left / _NS_PER_H)


def meter(model: Model, measured: Measured, candidate: Offer) -> Metered:
    """Every quantity of the month, by account, meter and unit; hour by hour as well where that is billed."""
    found = _Meters(model, measured, candidate, measured.month_ns).everything()
    committed = [account for account, plan in found.plans.items() if plan.commitment and plan.commitment.per_hour]
    if not committed:
        return found
    return replace(found, hours={account: list(_by_hour(model, measured, candidate, account)) for account in committed})


def payers_of(model: Model, measured: Measured, candidate: Offer) -> dict[tuple[str, SourceRef], list[Payer]]:
    """Who pays for what one event does at a source, by environment and source; in the exact context of bills."""
    meters = _Meters(model, measured, candidate, measured.month_ns)
    return {(s.environment, s.source): meters.payers(s, "") for s in measured.sources}


def up_to(model: Model, measured: Measured, candidate: Offer, month_ns: int) -> Metered:
    """Every quantity up to an instant of the month (``Measured.passed``); what is billed by the month as far as it has gone."""
    return _Meters(model, measured, candidate, month_ns).everything()


def hours_of(month_ns: int) -> Iterator[int]:
    """When the hours of a month end, ns since its start; the last one may be shorter than the others."""
    yield from range(_HOUR_NS, month_ns, _HOUR_NS)
    yield month_ns


#: Meters that go on whether or not anything comes.
_BY_TIME = (
    "idle_gb_seconds",
    "idle_vcpu_seconds",
    "instance_hours",
    "allocated_gb_seconds",
    "allocated_vcpu_seconds",
    "reserved_hours",
    "node_hours",
    "cluster_hours",
    "stream_partition_hours",
    "storage_gb_months",
    "flat_months",
)


def hours_by_arrivals(
    model: Model, measured: Measured, candidate: Offer, account: Account
) -> Iterator[Hour[UnitKey | None]]:
    """An estimate of the hours of a sampled month, of which only some were played: a function's usage by what came to it."""
    meters = _Meters(model, measured, candidate, measured.month_ns)
    whole = meters.everything().quantities[account]
    ends = list(hours_of(measured.month_ns))
    lengths = [Decimal(end - begun) / _HOUR_NS for begun, end in zip([0, *ends], ends, strict=False)]
    even = [length / sum(lengths) for length in lengths]
    # Of a month that was not played hour by hour, what came is the best there is to tell hours apart by.
    weights: dict[UnitKey | None, list[Decimal]] = {}
    for n, unit in enumerate(measured.units):
        came = [Decimal(round(float(each))) for each in measured.series.one(n, ARRIVALS)]
        weights[unit.key] = [each / sum(came) for each in came] if sum(came) else even
    for hour, length in enumerate(lengths):
        yield (
            length,
            {
                name: {
                    key: quantity * (even if name in _BY_TIME else weights.get(key, even))[hour]
                    for key, quantity in owners.items()
                }
                for name, owners in whole.items()
            },
        )


def marks_for(offers: Iterable[Offer], month_ns: int) -> Marks:
    """The hours of the month, where a commitment is paid by the hour; else none."""
    committed = any(offer.plan.commitment and offer.plan.commitment.per_hour for offer in offers)
    return Marks(tuple(hours_of(month_ns))[:-1]) if committed else NO_MARKS


def _by_hour(model: Model, measured: Measured, candidate: Offer, account: Account) -> Iterator[Hour[UnitKey | None]]:
    """An account's quantities hour by hour: what was measured at the end of each less what was before."""
    if not measured.marks and measured.month_ns > _HOUR_NS:
        yield from hours_by_arrivals(model, measured, candidate, account)
        return
    # Counters only rise: an hour is what they stood at its end less what they stood before.
    before: dict[str, dict[UnitKey | None, Decimal]] = {}
    began = 0
    for mark in [*measured.marks, measured]:
        now = _Meters(model, mark, candidate, measured.month_ns).everything().quantities[account]
        with localcontext(exact()):
            hour = {
                name: {key: quantity - before.get(name, {}).get(key, Decimal(0)) for key, quantity in owners.items()}
                for name, owners in now.items()
            }
            yield Decimal(mark.month_ns - began) / _HOUR_NS, hour
        before, began = now, mark.month_ns


def events_from_outside(model: Model, measured: Measured) -> int:
    """Events that came from outside, each once, whatever reads it: demand, items of firings, backlogs (rule 7.73)."""
    inside: dict[tuple[str, str], int] = defaultdict(int)
    for put in measured.put_in:
        inside[put.environment, put.source] += put.events
    total = 0
    triggers, units = model.triggers_by_source(), {u.key: u for u in measured.units}
    for source in measured.sources:
        kind, name = source.source.kind, source.source.name
        readers = triggers.get(source.source, [])
        if kind is SourceKind.SCHEDULES:
            # Skipped firings are left out; each trigger of a schedule counts its own.
            skipped = max((units[t.to, source.environment].events["skipped"] for t in readers), default=0)
            total += max(0, source.sends * model.schedules[name].items - skipped)
        else:
            came = source.sends if kind in _COPIED else source.arrived
            # Requests of an endpoint nobody serves, and a stream's records, count once whatever reads them.
            total += max(
                0,
                (came if readers or kind is not SourceKind.ENDPOINTS else source.sends)
                - inside[source.environment, source.source],
            )
    return total
