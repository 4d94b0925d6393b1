"""The model file as types: every key of design section 3, with its default.

These definitions are the loader, the defaults shown by ``check --defaults`` and the JSON Schema.
Numbers of a duration are nanoseconds, of a memory size binary MB, of other sizes bytes.
"""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Annotated, Literal, Self

from pydantic import ConfigDict, Field, model_validator

from echotally.errors import Refused
from echotally.model import fields as f
from echotally.model import key_rules as shapes
from echotally.model.happenings import FloorChange, Incident, Release
from echotally.model.sources import SourceKind, SourceRef
from echotally.model.spread import constant

_MS, _S, _MIN, _DAY = 10**6, 10**9, 60 * 10**9, 86_400 * 10**9
Link = SourceRef


#: A plan that leaves more of the events behind is no plan, where nothing else is said (rule 6.8).
LEFT_BEHIND = 0.01


class Budgets(f.Strict):
    """Monthly costs of parts of the estate, by tag and its value, and of months, in place of ``monthly_cost``."""

    tag: dict[f.Name, dict[str, f.Money]] = {}
    month: dict[f.Month, f.Money] = {}


class Targets(f.Strict):
    """What the estate, or one function, must keep to."""

    left_behind: f.Share = LEFT_BEHIND
    throttled: f.Share | None = None
    refused: f.Share | None = None
    lost: f.Count | None = None
    wait_p95: f.Duration | None = None
    latency_p95: f.Duration | None = None
    monthly_cost: f.Money | None = None
    by: Budgets = Budgets()

    def budget(self, month: str) -> Decimal | None:
        """The most a month may cost: its own budget, else that of every month; None where there is none."""
        return self.by.month.get(month, self.monthly_cost)


class FunctionTargets(f.Strict):
    """Targets of one function; a monthly cost belongs to the estate."""

    left_behind: f.Share | None = None
    throttled: f.Share | None = None
    refused: f.Share | None = None
    lost: f.Count | None = None
    wait_p95: f.Duration | None = None
    latency_p95: f.Duration | None = None


class Emit(f.Strict):
    """Events a function puts out per event it handles."""

    into: Link
    each: Annotated[float, Field(ge=0, le=1_000)] = 1.0
    payload: f.SizeSpread = constant(1_000)


class Ask(f.Strict):
    """Requests that a call sends to an endpoint for each event of its batch, and whose answers it waits for."""

    to: Link
    each: Annotated[float, Field(ge=0, le=1_000)] = 1.0
    payload: f.SizeSpread = constant(1_000)
    needs: bool = True


class Outside(f.Strict):
    """Somebody else's service, billed by its use."""

    unit: f.Money
    per: Annotated[int, Field(ge=1, le=10**12, strict=True)] = 1
    currency: f.Currency | None = None


class Use(f.Strict):
    """Uses of an outside service for each event."""

    what: f.Name
    each: Annotated[float, Field(ge=0, le=1_000_000)] = 1.0
    on: Literal["handled", "attempt"] = "handled"


class Range(f.Strict):
    """Uncertainty as factors: one time in twenty below ``low``, one in twenty above ``high``, as often below 1 as above."""

    low: Annotated[float, Field(gt=0, le=1)]
    high: Annotated[float, Field(ge=1, le=1_000)]


class Function(f.Strict):
    """One function: memory, timeout, limits and how long its runs take."""

    memory: f.Memory
    run: f.RunSpread
    timeout: f.PositiveDuration = 30 * _S
    instance_limit: f.Positive | None = None
    instance_floor: f.Count = 0
    slots: Annotated[int, Field(ge=1, le=100_000, strict=True)] = 1
    run_range: Range | None = None
    per_item: f.Duration = 0
    per_mb: f.Duration = 0
    cold_start: f.RunSpread = constant(400 * _MS)
    cpu_share: f.Share = 0.5
    threads: Annotated[float, Field(gt=0, le=1_024)] = 1
    measured_at: f.Memory | None = None
    measured_vcpu: Annotated[float, Field(gt=0, le=1_024)] | None = None
    memory_used: f.Memory | None = None
    error_rate: f.Share = 0.0
    poison_rate: f.Share = 0.0
    retry_run: Literal["anew", "same"] = "anew"
    emits: tuple[Emit, ...] = ()
    asks: tuple[Ask, ...] = ()
    uses: tuple[Use, ...] = ()
    releases: tuple[Release, ...] = ()
    instance_floors: tuple[FloorChange, ...] = ()
    log_bytes: f.Size = 500
    reply_bytes: f.Size = 0
    package: f.Size = 10_000_000
    plan: f.Name | None = None
    tags: dict[str, str] = {}
    targets: FunctionTargets = FunctionTargets()

    @model_validator(mode="after")
    def _floors_fit(self) -> Self:
        highest = max([self.instance_floor, *(change.floor for change in self.instance_floors)])
        if self.instance_limit is not None and highest > self.instance_limit:
            raise Refused(
                f"a floor of {highest} is above the instance limit of {self.instance_limit}",
                "floors up to instance_limit",
            )
        return self

    @property
    def feeds(self) -> tuple[Link, ...]:
        """The sources that its runs put events or requests into."""
        return (*(emit.into for emit in self.emits), *(ask.to for ask in self.asks))

    @property
    def by_number(self) -> bool:
        """Whether something about its events goes by their numbers, which count those of the whole estate (rules 4.5, 8.7)."""
        return self.poison_rate > 0 or self.retry_run == "same"

    @property
    def used_mb(self) -> int:
        """Memory a run needs, MB: what was measured, or all it was given."""
        return self.memory_used or self.memory


class Schedule(f.Strict):
    """A source that fires by the clock."""

    model_config = ConfigDict(json_schema_extra=shapes.exactly_one("cron", "every", "rrule"))

    cron: str | None = None
    every: f.PositiveDuration | None = None
    rrule: str | None = None
    timezone: f.Zone | None = None
    from_: f.Moment | None = Field(None, alias="from")
    seconds: bool = False
    items: f.Positive = 1
    items_growth: Annotated[float, Field(gt=-1, le=100)] = 0.0
    payload: f.SizeSpread = constant(1_000)
    overlap: Literal["allow", "skip"] = "allow"

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        if sum(form is not None for form in (self.cron, self.every, self.rrule)) != 1:
            raise Refused("needs exactly one form of schedule", "cron, every or rrule")
        return self


class Queue(f.Strict):
    """A source where messages wait until a batch takes them."""

    visibility: f.PositiveDuration = 30 * _S
    retention: f.PositiveDuration = 4 * _DAY
    tries: Annotated[int, Field(ge=1, le=10_000, strict=True)] = 5
    delay: f.Duration = 0
    backlog: Annotated[int, Field(ge=0, le=50_000_000, strict=True)] = 0
    dead_letter: Link | None = None
    fifo: bool = False
    groups: f.Positive = 1


class Stream(f.Strict):
    """A source of ordered partitions."""

    partitions: Annotated[int, Field(ge=1, le=10_000, strict=True)] = 1
    retention: f.PositiveDuration = _DAY
    skew: f.Share | None = None


class Feed(f.Strict):
    """A queue that a topic copies events into."""

    into: Link
    share: f.Share = 1.0


class Topic(f.Strict):
    """A source that copies each event to all who listen."""

    feeds: tuple[Feed, ...] = ()


class Endpoint(f.Strict):
    """A source of synchronous requests."""


class Folder(f.Strict):
    """A source of files that land."""


class Surge(f.Strict):
    """A stretch in which the rate is multiplied."""

    at: f.Moment
    lasts: f.PositiveDuration
    times: f.Factor


class Lump(f.Strict):
    """Events that come all at once, or evenly over a short time."""

    model_config = ConfigDict(json_schema_extra=shapes.exactly_one("cron", "at"))

    cron: str | None = None
    at: f.Moment | None = None
    count: f.Count
    over: f.Duration = 0

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        if (self.cron is None) == (self.at is None):
            raise Refused("needs one of cron and at", "cron for lumps that return, at for a single one")
        return self


class Demand(f.Strict):
    """The outside world putting events into a source."""

    model_config = ConfigDict(
        json_schema_extra=shapes.all_of(
            shapes.at_most_one("rate", "monthly", "trace", "clients"),
            shapes.at_least_one("rate", "monthly", "trace", "clients", "lumps"),
            shapes.where("spread", "bursty", {"required": ["burst"]}, shapes.none_of("burst")),
        )
    )

    into: Link
    rate: f.Rate | None = None
    monthly: Annotated[int, Field(ge=0, le=10**13, strict=True)] | None = None
    trace: str | None = None
    clients: Annotated[int, Field(ge=1, le=1_000_000, strict=True)] | None = None
    think: f.RunSpread = constant(0)
    spread: Literal["poisson", "even", "bursty"] = "poisson"
    burst: Annotated[float, Field(ge=1, le=1_000_000)] | None = None
    day_shape: Annotated[tuple[f.Factor, ...], Field(min_length=24, max_length=24)] | None = None
    week_shape: Annotated[tuple[f.Factor, ...], Field(min_length=7, max_length=7)] | None = None
    surges: tuple[Surge, ...] = ()
    lumps: tuple[Lump, ...] = ()
    repeat: bool = False
    client_tries: Annotated[int, Field(ge=1, le=1_000, strict=True)] = 1
    client_pause: f.Duration = _S
    payload: f.SizeSpread = constant(1_000)
    range: Range | None = None
    growth: Annotated[float, Field(gt=-1, le=100)] = 0.0

    @model_validator(mode="after")
    def _forms_fit(self) -> Self:
        forms = [name for name in ("rate", "monthly", "trace", "clients") if getattr(self, name) is not None]
        if len(forms) > 1 or not (forms or self.lumps):
            raise Refused("needs exactly one kind of demand", "rate, monthly, trace or clients, or lumps alone")
        if (self.spread == "bursty") != (self.burst is not None):
            raise Refused("spread and burst do not fit", 'spread = "bursty" together with burst = 8')
        for shape in (self.day_shape, self.week_shape):
            if shape is not None and sum(shape) <= 0:
                raise Refused("a shape must not be all zeros", "weights of which at least one is above 0")
        if self.clients and self.into.kind is not SourceKind.ENDPOINTS:
            raise Refused("clients ask endpoints only", 'into = "endpoints.NAME"')
        return self


class Trigger(f.Strict):
    """The line from a source to a function. ``readers`` and ``tries`` left out are those of its source's kind."""

    from_: Link = Field(alias="from")
    to: f.Name
    batch: Annotated[int, Field(ge=1, le=100_000, strict=True)] = 1
    batch_wait: f.Duration = 0
    readers: Annotated[int, Field(ge=1, le=100_000, strict=True)] | None = None
    on_failure: Literal["whole", "failed"] = "whole"
    share: f.Share = 1.0
    tries: Annotated[int, Field(ge=1, le=10_000, strict=True)] | None = None
    dead_letter: Link | None = None

    @property
    def readers_in_force(self) -> int:
        """Most batches in flight; of a stream, a partition."""
        return self.readers or self.from_.kind.traits.readers

    @property
    def tries_in_force(self) -> int | None:
        """Runs until an event is given up; None: without end, or not counted in runs."""
        return self.tries or self.from_.kind.traits.tries


class Environment(f.Strict):
    """A copy of the estate with a demand of its own."""

    demand: f.Factor = 1.0
    account: f.Name | None = None
    schedules: bool = True


class Estate(f.Strict):
    """The head of the file."""

    name: f.Name
    month: f.Month
    timezone: f.Zone = "UTC"
    rate_cards: Annotated[tuple[str, ...], Field(min_length=1)]
    plans: Annotated[tuple[f.Name, ...], Field(min_length=1)] | None = None
    seed: Annotated[int, Field(ge=0, lt=2**63, strict=True)] = 1


class Accepted(f.Strict):
    """A finding the analyst has looked at and accepts, with the reason."""

    finding: f.Name
    at: f.Name | None = None
    reason: Annotated[str, Field(min_length=3, max_length=1_000)]


class Exchange(f.Strict):
    """Rates of exchange on a date: one unit of each currency named is worth so many units of ``into``."""

    date: date
    into: f.Currency
    rates: Annotated[dict[f.Currency, f.Money], Field(min_length=1)]


class Model(f.Strict):
    """Everything one model file describes."""

    schema_: Literal["echotally-model/1"] = Field(alias="schema")
    estate: Estate
    functions: Annotated[dict[f.Name, Function], Field(min_length=1)]
    schedules: dict[f.Name, Schedule] = {}
    queues: dict[f.Name, Queue] = {}
    streams: dict[f.Name, Stream] = {}
    topics: dict[f.Name, Topic] = {}
    endpoints: dict[f.Name, Endpoint] = {}
    folders: dict[f.Name, Folder] = {}
    demand: dict[f.Name, Demand] = {}
    triggers: tuple[Trigger, ...] = ()
    environments: dict[f.Name, Environment] = {"live": Environment()}
    targets: Targets = Targets()
    incidents: tuple[Incident, ...] = ()
    outside: dict[f.Name, Outside] = {}
    exchange: Exchange | None = None
    accepted: tuple[Accepted, ...] = ()

    @property
    def units(self) -> int:
        """How many functions there are in all environments together."""
        return len(self.functions) * len(self.environments)

    def sources(self) -> list[SourceRef]:
        """Addresses of all sources, in the order of the file's tables."""
        return [SourceRef.of(kind, name) for kind in SourceKind for name in getattr(self, kind)]

    def triggers_by_source(self) -> dict[SourceRef, list[Trigger]]:
        """The triggers of each source that has some, in the order of the file."""
        found: dict[SourceRef, list[Trigger]] = {}
        for trigger in self.triggers:
            found.setdefault(trigger.from_, []).append(trigger)
        return found

    def waiting_place(self, source: SourceRef) -> Queue | Stream:
        """The queue or stream of an address; raises ``KeyError`` for another kind."""
        return self.streams[source.name] if source.kind is SourceKind.STREAMS else self.queues[source.name]

    def only_pushed(self) -> set[str]:
        """Functions all of whose events are pushed, one by one."""
        return {*self.functions} - {trigger.to for trigger in self.triggers if not trigger.from_.kind.traits.pushed}

    def items_of(self, trigger: Trigger) -> int:
        """Events of a full call of a trigger: of a schedule its items, else the batch."""
        source = trigger.from_
        return self.schedules[source.name].items if source.kind is SourceKind.SCHEDULES else trigger.batch
