"""The rate card as types: every key of design section 4, with its default."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, ConfigDict, Field, GetJsonSchemaHandler, WithJsonSchema, model_validator
from pydantic_core import CoreSchema

from echotally.errors import Refused
from echotally.model import fields as f
from echotally.model import key_rules as shapes
from echotally.model import units
from echotally.rates.meters import METERS

_S, _MIN, _H = 10**9, 60 * 10**9, 3_600 * 10**9
Source = Literal["schedules", "queues", "topics", "streams", "endpoints", "folders"]
#: Forms of a schedule that a plan may take.
Dialect = Literal["five", "seconds-first", "year-last", "every", "rrule"]
#: What a plan may bill of time, in the order of ``engine.codes``.
BILLS = ("runs", "active", "allocated", "reserved", "nodes")


#: Units of meters: beyond what any month can bill, and small enough for every sum.
_Large = Annotated[int, Field(ge=0, le=10**18, strict=True)]
_LargePositive = Annotated[int, Field(ge=1, le=10**18, strict=True)]
#: Looks of polled scaling that an instance's keep-alive may span: each is remembered.
_MOST_LOOKS = 1_000_000


class MemorySizes(f.Strict):
    """The memory sizes a plan sells, MB: a range with a step, or a list."""

    model_config = ConfigDict(
        json_schema_extra={
            "oneOf": [
                {"required": ["from", "to", "step"], **shapes.none_of("choices")},
                {"required": ["choices"], **shapes.none_of("from", "to", "step")},
            ]
        }
    )

    from_: f.Memory | None = Field(None, alias="from")
    to: f.Memory | None = None
    step: f.Memory | None = None
    choices: Annotated[tuple[f.Memory, ...], Field(min_length=1)] | None = None

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        ranged = (self.from_, self.to, self.step)
        if (self.choices is None) == (None in ranged):
            raise Refused(
                "needs a range or a list", '{ from = "128 MB", to = "8 GB", step = "64 MB" } or { choices = [...] }'
            )
        if self.choices is None and self.from_ > self.to:  # type: ignore[operator]
            raise Refused("from is above to", "from at most to")
        return self

    @property
    def largest_mb(self) -> int:
        """The largest size sold, MB."""
        if self.choices is not None:
            return max(self.choices)
        assert self.from_ and self.to and self.step
        return self.from_ + (self.to - self.from_) // self.step * self.step

    def round_up(self, mb: int) -> int | None:
        """The smallest size sold that holds ``mb``; None above the largest."""
        if mb > self.largest_mb:
            return None
        if self.choices is not None:
            return min(size for size in self.choices if size >= mb)
        assert self.from_ and self.step
        # Steps are counted from the smallest size; the division rounds up.
        return self.from_ + max(0, -(-(mb - self.from_) // self.step)) * self.step


class Scaling(f.Strict):
    """How a plan adds instances: one per call that finds none, or by looking at what waits."""

    model_config = ConfigDict(
        json_schema_extra=shapes.all_of(
            shapes.together("burst", "ramp"),
            shapes.where(
                "kind",
                "polled",
                {"required": ["every", "per_instance", "step"], **shapes.none_of("burst", "ramp")},
                shapes.none_of("every", "per_instance", "step", "first"),
            ),
        )
    )

    kind: Literal["per-call", "polled"] = "per-call"
    burst: f.Positive | None = None
    ramp: (
        Annotated[
            tuple[int, int],
            BeforeValidator(units.count_per_ns),
            WithJsonSchema({"type": "string", "pattern": r"^\s*\d[\d_]*(\.\d+)?\s*/\s*(s|min|h|d)\s*$"}),
        ]
        | None
    ) = None
    scope: Literal["function", "account"] = "function"
    every: f.PositiveDuration | None = None
    per_instance: f.Positive | None = None
    step: f.Positive | None = None
    first: f.Positive | None = None

    @model_validator(mode="after")
    def _keys_fit(self) -> Self:
        # ``first`` may be left out: the first look then comes at 0 s like every other.
        polled = (self.every, self.per_instance, self.step)
        if self.kind == "polled" and (None in polled or self.burst or self.ramp):
            raise Refused("polled scaling has keys of its own", "every, per_instance and step, and first")
        if self.kind == "per-call" and any((*polled, self.first)):
            raise Refused("per-call scaling has keys of its own", "burst, ramp and scope")
        if (self.burst is None) != (self.ramp is None):
            raise Refused("burst and ramp belong together", "both or neither")
        return self


class Rounding(f.Strict):
    """Billed time: rounded up to ``time``, then raised to ``at_least`` (both ns)."""

    time: f.PositiveDuration = 1_000_000
    at_least: f.Duration = 0


class Tier(f.Strict):
    """A stretch of a tiered price; the last one has no ``up_to``."""

    up_to: _LargePositive | None = None
    unit: f.Money


class Price(f.Strict):
    """Money per unit of a meter: one price, or tiers (graduated unless ``volume``)."""

    model_config = ConfigDict(json_schema_extra=shapes.exactly_one("unit", "tiers"))

    unit: f.Money | None = None
    per: _LargePositive = 1
    tiers: Annotated[tuple[Tier, ...], Field(min_length=1)] | None = None
    volume: bool = False

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        if (self.unit is None) == (self.tiers is None):
            raise Refused("needs one price or tiers", '{ unit = "0.19" } or { tiers = [...] }')
        bounds = [tier.up_to for tier in self.tiers or ()]
        if bounds and (None in bounds[:-1] or bounds[-1] is not None):
            raise Refused("tiers leave a gap", "every tier but the last has up_to, and the last has none")
        # Equal bounds would be a tier of nothing.
        rising = [bound for bound in bounds if bound is not None]
        if rising != sorted(set(rising)):
            raise Refused("tiers do not rise", "up_to in rising order")
        return self

    def steps(self) -> tuple[Tier, ...]:
        """The price as tiers, a single price being one tier without end."""
        return (
            self.tiers if self.tiers is not None else (Tier.model_construct(up_to=None, unit=self.unit or Decimal(0)),)
        )


class Push(f.Strict):
    """How a plan asks again for events that are pushed."""

    first_wait: f.PositiveDuration = _S
    longest_wait: f.PositiveDuration = 5 * _MIN
    give_up: f.Duration = 6 * _H
    retry_waits: Annotated[tuple[f.Duration, ...], Field(min_length=1)] = (_MIN, 2 * _MIN)

    @property
    def waits(self) -> tuple[int, ...]:
        """The waits of a call that is throttled again and again, ns, doubling up to the longest, which is the last (rule 4.3)."""
        found = [min(self.first_wait, self.longest_wait)]
        while found[-1] < self.longest_wait:
            found.append(min(2 * found[-1], self.longest_wait))
        return tuple(found)

    @property
    def attempts(self) -> int:
        """How often an event is tried that never finds room, until it is given up."""
        attempts, age = 1, 0
        for wait in self.waits[:-1]:
            if age + wait > self.give_up:
                return attempts
            attempts, age = attempts + 1, age + wait
        return attempts + (self.give_up - age) // self.longest_wait


def _meter(found: object) -> str:
    if found not in METERS:
        raise Refused("is not a meter", f"{', '.join(METERS)}")
    return str(found)


def _share(found: object) -> Decimal:
    """A share below 1, in the digits it is written in."""
    if isinstance(found, Decimal):
        return found
    if isinstance(found, bool) or not isinstance(found, int | float) or not 0 <= found < 1:
        raise Refused("is no discount", "a share from 0 to below 1, such as 0.2")
    return Decimal(repr(found))


MeterName = Annotated[str, BeforeValidator(_meter), WithJsonSchema({"enum": list(METERS)})]


class FlatItem(f.Strict):
    """A monthly item of a plan: its price, and whether it is bought."""

    unit: f.Money
    on: bool = True

    @classmethod
    def __get_pydantic_json_schema__(cls, core: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        # A price alone is the item with nothing else said.
        table = handler.resolve_ref_schema(handler(core))
        return {"anyOf": [table["properties"]["unit"], dict(table)]}

    @model_validator(mode="before")
    @classmethod
    def _price_alone(cls, found: object) -> object:
        return found if isinstance(found, dict | cls) else {"unit": found}


class Commitment(f.Strict):
    """Money prepaid for every hour of the month against a discount on the usage it pays (rule 10.4)."""

    per_hour: f.Money
    discount: Annotated[
        Decimal, BeforeValidator(_share), WithJsonSchema({"type": "number", "minimum": 0, "exclusiveMaximum": 1})
    ]
    covers: Annotated[tuple[MeterName, ...], Field(min_length=1)]


#: Keys that only plans of one kind have.
_OWN_KEYS = {
    "reserved": ("instances", "instance_memory", "instance_vcpu", "already_used", "used_gb", "used_vcpu"),
    "nodes": ("node_memory", "node_vcpu", "node_start", "node_keep_alive", "nodes_floor", "nodes_limit", "vcpu_each"),
}


class Plan(f.Strict):
    """One hosting plan: its limits, how it scales, what it bills."""

    model_config = ConfigDict(
        json_schema_extra=shapes.all_of(
            shapes.where(
                "bills",
                "reserved",
                {"required": ["instances", "instance_memory", "instance_vcpu"], **shapes.none_of("vcpu_per_gb")},
                {"required": ["vcpu_per_gb"], **shapes.none_of(*_OWN_KEYS["reserved"])},
            ),
            shapes.where(
                "bills", "nodes", {"required": ["node_memory", "node_vcpu"]}, shapes.none_of(*_OWN_KEYS["nodes"])
            ),
        )
    )

    title: str = ""
    bills: Literal["runs", "active", "allocated", "reserved", "nodes"]
    memory: MemorySizes
    memory_billed: Literal["given", "used"] = "given"
    vcpu_per_gb: Annotated[float, Field(gt=0, le=1_024)] | None = None
    vcpu_limit: Annotated[float, Field(gt=0, le=1_024)] | None = None
    timeout_limit: f.PositiveDuration | None = None
    timeout_covers_cold_start: bool = False
    slots_limit: f.Positive | None = None
    instance_limit: f.Positive | None = None
    concurrency_limit: f.Positive | None = None
    scaling: Scaling = Scaling()
    keep_alive: f.Duration = 5 * _MIN
    cold_start_factor: f.Factor = 1.0
    cold_start_billed: bool = False
    wait_limit: f.Duration = 0
    gateway_wait: f.PositiveDuration | None = None
    rounding: Rounding = Rounding()
    batch_limit: f.Positive | None = None
    payload_limit: f.Size | None = None
    pull: Literal["matched", "eager"] = "matched"
    idle_readers: f.Count = 1
    poll_wait: f.PositiveDuration = 20 * _S
    cron_dialect: Annotated[tuple[Dialect, ...], Field(min_length=1)] | None = None
    sources: tuple[Source, ...] = ("schedules", "queues", "topics", "streams", "endpoints", "folders")
    available: Annotated[bool | str, Field(union_mode="left_to_right")] = True
    instances: Annotated[int, Field(ge=1, le=10_000, strict=True)] | None = None
    instance_memory: f.Memory | None = None
    instance_vcpu: Annotated[float, Field(gt=0, le=1_024)] | None = None
    already_used: Annotated[float, Field(ge=0, lt=1)] = 0.0
    used_gb: Annotated[float, Field(ge=0, le=10**9)] | None = None
    used_vcpu: Annotated[float, Field(ge=0, le=10**9)] | None = None
    node_memory: f.Memory | None = None
    node_vcpu: Annotated[float, Field(gt=0, le=1_024)] | None = None
    node_start: f.Duration = 0
    node_keep_alive: f.Duration = 5 * _MIN
    nodes_floor: f.Count = 0
    nodes_limit: f.Positive | None = None
    vcpu_each: Annotated[float, Field(gt=0, le=1_024)] | None = None
    push: Push = Push()
    store: f.Size = 0
    flat: dict[f.Name, FlatItem] = {}
    per_call: dict[MeterName, _LargePositive] = {}
    commitment: Commitment | None = None
    like: str | None = None
    price: Annotated[dict[MeterName, Price], Field(min_length=1)]
    allowance: dict[MeterName, _Large] = {}

    @property
    def idle_ns(self) -> int:
        """How long the last that ran on a plan is there after it: its instance, and the node of that."""
        return self.keep_alive + (self.node_keep_alive if self.bills == "nodes" else 0)

    @model_validator(mode="after")
    def _keys_fit(self) -> Self:
        if self.bills == "reserved":
            if self.vcpu_per_gb is not None:
                raise Refused("a reserved plan has instance_vcpu instead of vcpu_per_gb", "leave vcpu_per_gb out")
            _needs(self, "instances", "instance_memory", "instance_vcpu")
        else:
            _needs(self, "vcpu_per_gb")
        if self.bills == "nodes":
            _needs(self, "node_memory", "node_vcpu")
        if self.scaling.every and self.keep_alive // self.scaling.every > _MOST_LOOKS:
            raise Refused(
                f"keep_alive spans more than {_MOST_LOOKS:,} looks of its scaling",
                "a longer scaling.every or a shorter keep_alive",
            )
        self._others_fit()
        if self.commitment is not None:
            covers = self.commitment.covers
            stray = [meter for meter in covers if meter not in self.prices()]
            if stray or len(set(covers)) < len(covers):
                raise Refused(
                    f"the commitment covers {', '.join(stray)}, which the plan has no price for"
                    if stray
                    else "the commitment covers a meter twice",
                    f"each once, of {', '.join(self.prices())}",
                )
        if self.flat and "flat_months" in self.price:
            raise Refused("monthly items are priced twice", "either [plans.X.flat] with names or price.flat_months")
        for bills, keys in _OWN_KEYS.items():
            stray = [key for key in keys if bills != self.bills and key in self.model_fields_set]
            if stray:
                raise Refused(f"{', '.join(stray)} belong to plans that bill {bills}", "leave them out")
        return self

    def _others_fit(self) -> None:
        absolute = [key for key in ("used_gb", "used_vcpu") if getattr(self, key) is not None]
        if absolute and "already_used" in self.model_fields_set:
            raise Refused(
                f"already_used and {absolute[0]} say the same", "a share, or what others use in absolute terms"
            )
        if self.bills == "reserved" and max(self.used_by_others) >= 1:
            raise Refused(
                "others use all of the reserved instances",
                "used_gb and used_vcpu below what all instances have together",
            )

    def prices(self) -> dict[str, Price]:
        """Every price by meter; named flat items are added up into ``flat_months``."""
        if not self.flat:
            return self.price
        return {**self.price, "flat_months": Price.model_construct(unit=sum(self.items().values(), Decimal(0)))}

    def items(self) -> dict[str, Decimal]:
        """The monthly items that are bought, by name."""
        return {name: item.unit for name, item in self.flat.items() if item.on}

    @property
    def used_by_others(self) -> tuple[float, float]:
        """Shares of the reserved memory and vCPUs that other applications use."""
        if self.used_gb is None and self.used_vcpu is None:
            return self.already_used, self.already_used
        # What others use in absolute terms is spread over all instances, since no call of theirs is played.
        n = self.instances or 1
        memory = (self.used_gb or 0.0) * 1024 / (n * (self.instance_memory or 1))
        return memory, (self.used_vcpu or 0.0) / (n * (self.instance_vcpu or 1))

    @property
    def paid_by_others(self) -> float:
        """The share of the cost of reserved instances that is theirs: the larger of the two."""
        return max(self.used_by_others)

    def vcpu(self, mb: float) -> float:
        """vCPUs an instance of ``mb`` MB has: min(vcpu_limit, GB x vcpu_per_gb); a reserved instance's own."""
        if self.bills == "reserved":
            return float(self.instance_vcpu or 0)
        share = mb / 1024 * float(self.vcpu_per_gb or 0)
        return min(share, self.vcpu_limit) if self.vcpu_limit else share


def _needs(plan: Plan, *keys: str) -> None:
    missing = [key for key in keys if getattr(plan, key) is None]
    if missing:
        raise Refused(f"a plan that bills {plan.bills} also needs {', '.join(missing)}", f"all of {', '.join(keys)}")


class Card(f.Strict):
    """The head of a rate card."""

    name: f.ShortName
    provider: str = ""
    region: str = ""
    currency: f.Currency
    effective: date | None = None
    gigabyte: Literal["decimal", "binary"] = "decimal"


class RateCard(f.Strict):
    """A provider's plans and prices."""

    schema_: Literal["echotally-rates/1"] = Field(alias="schema")
    card: Card
    plans: Annotated[dict[f.ShortName, Plan], Field(min_length=1)]
