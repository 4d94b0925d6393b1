"""Model and card files made from their types: each key has a legal value, now and then an extreme one.

A case is a number: the same number makes the same files. What types cannot say (names that lead somewhere, keys that
exclude each other) is said here, so that few files are refused at the door.
"""

from __future__ import annotations

import types
from collections.abc import Mapping
from datetime import date, datetime
from random import Random
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, BeforeValidator, Field
from pydantic.fields import FieldInfo

from echotally.model import estate as e
from echotally.model import fields as f
from echotally.model import happenings as h
from echotally.model import units
from echotally.rates import card as c
from echotally.rates.meters import METERS
from tests.fuzzing.toml_lines import toml

SOURCES = ("queues", "streams", "endpoints", "folders", "topics", "schedules")
#: Usual and extreme texts of each kind of quantity; the extremes are legal, every one.
DURATIONS = (
    ["1 ms", "250 ms", "1 s", "30 s", "5 min"],
    ["0.000001 ms", "1 h", "15 d", "36525 d", "0.0000014 s", "0.5 d"],
)
SIZES = (["1 kB", "300 B", "2 MB"], ["0 B", "1 B", "250 GB", "1000000 GB"])
MEMORY = (["128 MB", "256 MB", "512 MB", "1 GB"], ["1 MB", "3 GB", "1048576 GB", "129 MB"])
RATES = (["1 /min", "30 /h", "5 /h", "2 /d"], ["0 /s", "0.000000001 /s", "1 /s", "1000000000000 /s"])
MONEY = (["0.20", "0.0000166667", "1"], ["0", "999999999999999", "0.000000000000001", "123456789.123456789"])
TEXTS = (
    ["alpha", "b-2", "gauge"],
    ["é ü", "$\\frac$", "=1+1", "[red]x[/red]", "\u202eabc", "a\tb", "x" * 190, "%s{0}", "..", "'", '"', "\\"],
)
CRONS = (
    ["30 2 * * *", "*/10 * * * *", "0 6 1 * *"],
    ["0 0 29 2 *", "* * * * *", "0 0 L * ?", "0 0 1W * *", "59 23 31 12 5"],
)
_READS = {
    units.duration_ns: DURATIONS,
    units.size_bytes: SIZES,
    units.memory_mb: MEMORY,
    units.rate_per_s: RATES,
    units.money: MONEY,
}


def _first_mark(annotated: Any) -> Any:
    """The function of the first validator of an annotated type."""
    return annotated.__metadata__[0].func


_POSITIVE = id(_first_mark(f.PositiveDuration))
_RUN, _SIZE = id(_first_mark(f.RunSpread)), id(_first_mark(f.SizeSpread))


#: A key whose name is a word of Python.
_NO_START: dict[str, Any] = {"from": None}


class Maker:
    """Values of every type of the model and the card, by a random number of its own."""

    def __init__(self, seed: int, small: bool = False) -> None:
        self.rng = Random(seed)
        self.small = small
        #: One case in three is calm throughout, the others have extremes here and there.
        self.wild = self.rng.choice([0.0, 0.04, 0.2])

    def extreme(self) -> bool:
        return self.rng.random() < self.wild

    def maybe(self, chance: float = 0.3) -> bool:
        return self.rng.random() < chance

    def of(self, pool: tuple[list[str], list[str]]) -> str:
        if self.small and (pool is RATES or pool is CRONS):
            return self.rng.choice(["1 /d", "3 /d"] if pool is RATES else ["30 2 * * *", "0 6 1 * *", "0 0 L * ?"])
        return self.rng.choice(pool[self.extreme()])

    def table(self, kind: type[BaseModel], without: tuple[str, ...] = (), **given: Any) -> dict[str, Any]:
        """A table of a type: required keys, some of the others, ``given`` as they are."""
        found: dict[str, Any] = {}
        for name, info in kind.model_fields.items():
            key = info.alias or name
            if key in given:
                if given[key] is not None:
                    found[key] = given[key]
            elif key not in without and (info.is_required() or self.maybe()):
                found[key] = self.field(info)
        return found

    def field(self, info: FieldInfo) -> Any:
        return self.value(info.annotation, tuple(info.metadata))

    def value(self, kind: Any, extra: tuple[Any, ...] = ()) -> Any:
        origin = get_origin(kind)
        if origin is Annotated:
            return self.value(get_args(kind)[0], (*extra, *get_args(kind)[1:]))
        if origin in (Union, types.UnionType):
            return self.value(self.rng.choice([one for one in get_args(kind) if one is not type(None)]), extra)
        for mark in extra:
            if isinstance(mark, BeforeValidator):
                return self.read_by(mark.func)
        if origin is Literal:
            return self.rng.choice(get_args(kind))
        if origin is dict:
            keys, values = get_args(kind)
            return {self.value(keys): self.value(values) for _ in range(self.rng.randint(1, 2))}
        if origin is tuple:
            least = max([getattr(mark, "min_length", None) or 0 for mark in _marks(extra)], default=0)
            return [self.value(get_args(kind)[0]) for _ in range(least or self.rng.randint(1, 3))]
        if isinstance(kind, type) and issubclass(kind, BaseModel):
            return self.special(kind)
        return self.plain(kind, extra)

    def special(self, kind: type[BaseModel]) -> Any:
        makers: Mapping[type[BaseModel], Any] = {
            c.MemorySizes: self.memory_sizes,
            c.Scaling: self.scaling,
            c.Price: self.price,
            e.Lump: self.lump,
            h.Release: self.release,
            h.FloorChange: self.floor_change,
            c.FlatItem: lambda: self.rng.choice([self.of(MONEY), {"unit": self.of(MONEY), "on": self.maybe(0.5)}]),
        }
        return makers.get(kind, lambda: self.table(kind))()

    def read_by(self, func: Any) -> Any:
        """A text for a validator that reads one."""
        if id(func) in (_RUN, _SIZE):
            return self.spread(
                DURATIONS if id(func) == _RUN else SIZES, units.duration_ns if id(func) == _RUN else units.size_bytes
            )
        if id(func) == _POSITIVE:
            return self.of(DURATIONS)
        if func is units.duration_ns and self.extreme():
            return "0 s"
        if func is units.count_per_ns:
            return self.rng.choice(["500 /min", "3 /s", "1 /d", "0.333333333 /s", "1000000000000 /s"])
        if func in _READS:
            return self.of(_READS[func])
        if func is f._zone:
            return self.rng.choice(["UTC", "Europe/Dublin", "Australia/Lord_Howe", "Pacific/Apia", "Asia/Kathmandu"])
        if func is f._month:
            return self.rng.choice(
                ["2027-03", "2027-10", "2028-02", "1970-01", "9998-12"] if self.extreme() else ["2027-03", "2027-10"]
            )
        if func is f._moment:
            return self.rng.choice(["2027-03-14T04:00", "2027-03-28T01:30", "1900-01-01", "9998-12-31T23:59:59"])
        if func in (c._meter, c._share):
            return self.rng.choice(tuple(METERS) if func is c._meter else (0, 0.2, 0.999999, 1e-9))
        raise TypeError(f"nothing known makes what {func} reads")

    def spread(self, pool: tuple[list[str], list[str]], read: Any) -> Any:
        form = self.rng.randrange(5)
        if form == 1:
            return {"mean": self.of(pool), "shape": "exponential"}
        if form == 2:
            low, high = sorted((self.of(pool), self.of(pool)), key=read)
            return {"median": low, "p95": high} if read(low) > 0 else low
        if form == 3:
            share = self.rng.choice([0, 0.25, 1, 1e-12])
            return {
                "mix": [{"share": share, "constant": self.of(pool)}, {"share": 1 - share, "constant": self.of(pool)}]
            }
        return self.of(pool)

    def plain(self, kind: Any, extra: tuple[Any, ...]) -> Any:
        low, high = _bounds(extra)
        if kind is bool:
            return self.maybe(0.5)
        if kind is int:
            low, high = int(low or 0), int(high if high is not None else 10**9)
            return (
                self.rng.choice([low, high, min(high, low + 1)])
                if self.extreme()
                else self.rng.randint(low, min(high, low + 20))
            )
        if kind is float:
            low, high = float(low or 0), float(high if high is not None else 1e9)
            return (
                self.rng.choice([low, high, (low + high) / 2])
                if self.extreme()
                else low + (min(high, low + 2) - low) * self.rng.random() * 0.3
            )
        if kind is date:
            return self.rng.choice([date(2027, 1, 1), date(1, 1, 1), date(9999, 12, 31)])
        if kind is str:
            pattern = next((mark.pattern for mark in _marks(extra) if getattr(mark, "pattern", None)), "")
            return "EUR" if "[A-Z]{3}" in pattern else f"n{self.rng.randrange(99)}" if pattern else self.of(TEXTS)
        if kind is datetime:
            return self.read_by(f._moment)
        raise TypeError(f"nothing known makes {kind}")

    # -- what the types do not say ------------------------------------------------------------------------------------
    def memory_sizes(self) -> Any:
        if self.maybe(0.5):
            return {"choices": sorted({self.of(MEMORY) for _ in range(3)} | {"1 GB"})}
        return {
            "from": self.rng.choice(["1 MB", "128 MB"]),
            "to": self.rng.choice(["8 GB", "1048576 GB" if self.extreme() else "2 GB"]),
            "step": self.rng.choice(["1 MB", "64 MB"]),
        }

    def scaling(self) -> Any:
        if self.maybe(0.4):
            return {
                "kind": "polled",
                "every": self.rng.choice(["1 s", "30 s", "1 h"]),
                "per_instance": self.plain(int, _between(1, 10**9)),
                "step": self.plain(int, _between(1, 10**6)),
            } | ({"first": self.plain(int, _between(1, 10**6))} if self.maybe() else {})
        found: dict[str, Any] = {"kind": "per-call"}
        if self.maybe(0.5):
            found |= {
                "burst": self.plain(int, _between(1, 10**9)),
                "ramp": self.read_by(units.count_per_ns),
                "scope": self.rng.choice(["function", "account"]),
            }
        return found

    def price(self) -> Any:
        per = self.rng.choice([1, 1_000, 1_000_000, 10**18])
        if self.maybe(0.6):
            return {"unit": self.of(MONEY), "per": per}
        bounds = sorted(self.rng.sample([1, 10, 1_000, 10**6, 10**12, 10**18], self.rng.randint(1, 3)))
        tiers = [{"up_to": bound, "unit": self.of(MONEY)} for bound in bounds]
        return {"per": per, "tiers": [*tiers, {"unit": self.of(MONEY)}], "volume": self.maybe(0.3)}

    def lump(self) -> Any:
        count = self.rng.choice([0, 1, 7, 40 if self.small else 500])
        found = {"count": count, "over": self.rng.choice(["0 s", "1 min", "36525 d" if self.extreme() else "1 h"])}
        return found | ({"cron": self.of(CRONS)} if self.maybe(0.5) else {"at": "2027-03-14T04:00"})

    def release(self) -> Any:
        return {"cron": self.of(CRONS)} if self.maybe(0.5) else {"at": self.read_by(f._moment)}

    def floor_change(self) -> Any:
        return {"cron": self.of(CRONS), "floor": self.rng.choice([0, 1, 2])}

    def incidents(self, functions: list[str]) -> list[dict[str, Any]]:
        """Trouble of every kind; what is of whole accounts names no function."""
        found = []
        for n in range(self.rng.randint(1, 2)):
            of_account = self.maybe(0.4)
            own = ("run_times", "run", "error_rate")
            given: dict[str, Any] = {"name": f"i{n}", "environments": None, "cron": None, "at": None, **self.release()}
            given["functions"] = None if of_account or self.maybe(0.5) else [self.rng.choice(functions)]
            effects = self.rng.sample(h.OF_ACCOUNTS if of_account else own, 1)
            given |= {key: None for key in h.EFFECTS if key not in effects}
            given |= {key: self.field(h.Incident.model_fields[key]) for key in effects}
            given["lasts"] = self.rng.choice(["1 min", "1 h", "36525 d" if self.extreme() else "1 d"])
            found.append(self.table(h.Incident, **given))
        return found

    def plan(self) -> dict[str, Any]:
        """A hosting plan: the keys of its kind, a price for anything."""
        bills = self.rng.choice(["runs", "runs", "active", "allocated", "reserved", "nodes"])
        own = {kind: dict.fromkeys(keys) for kind, keys in c._OWN_KEYS.items() if kind != bills}
        given: dict[str, Any] = {key: None for keys in own.values() for key in keys}
        if bills == "reserved":
            given |= {
                "vcpu_per_gb": None,
                "instances": self.plain(int, _between(1, 50)),
                "instance_memory": "4 GB",
                "instance_vcpu": 2,
                "used_gb": None,
                "used_vcpu": None,
            }
        else:
            given["vcpu_per_gb"] = self.rng.choice([0.5, 1, 2])
        if bills == "nodes":
            given |= {
                "node_memory": "8 GB",
                "node_vcpu": 4,
                "nodes_limit": self.plain(int, _between(1, 40)),
                "nodes_floor": self.rng.randint(0, 2),
            }
        scaling = self.scaling()
        keep = self.rng.choice(
            ["0 s", "1 min", "5 min", "1 h"] if scaling["kind"] == "polled" else ["0 s", "5 min", "36525 d"]
        )
        flat = {"monitoring": self.of(MONEY)} if self.maybe(0.2) else None
        prices = {self.read_by(c._meter): self.price() for _ in range(3)} | {"calls": self.price()}
        if flat:
            prices.pop("flat_months", None)
        prepaid = self.rng.sample(sorted(prices), self.rng.randint(1, len(prices)))
        terms = self.table(c.Commitment, covers=prepaid) if self.maybe(0.2) else None
        sources = list(SOURCES) if self.maybe(0.9) else ["queues", "endpoints"]
        limits = {} if self.maybe(0.8) else {"timeout_limit": self.of(DURATIONS), "payload_limit": self.of(SIZES)}
        return self.table(
            c.Plan, ("timeout_limit", "payload_limit", "available", "slots_limit", "batch_limit", "cron_dialect", "like"), bills=bills, memory=self.memory_sizes(), scaling=scaling, keep_alive=keep,
            flat=flat, price=prices, commitment=terms, sources=sources, **given, **limits,
        )  # fmt: skip

    def card(self) -> dict[str, Any]:
        head = self.table(c.Card, name="card", currency="EUR")
        return {
            "schema": "echotally-rates/1",
            "card": head,
            "plans": {f"p{n}": self.plan() for n in range(self.rng.randint(1, 2))},
        }

    def model(self) -> dict[str, Any]:
        """An estate whose names lead somewhere and whose events go round in no circle."""
        functions = [self.name("f", n) for n in range(self.rng.randint(1, 3))]
        found: dict[str, Any] = {"schema": "echotally-model/1", "functions": {}, "demand": {}, "triggers": []}
        found["estate"] = self.table(
            e.Estate, ("plans",), name=self.of(TEXTS), month=self.read_by(f._month), rate_cards=["card.toml"]
        )
        found["queues"] = {"parked": self.table(e.Queue, ("backlog", "dead_letter"))}
        for place, name in enumerate(functions):
            # What a function puts out goes to the sources of later ones, or to the parked letters.
            self.source(found, place, name)
            found["functions"][name] = self.table(
                e.Function,
                ("plan", "emits", "asks", "uses", "instance_floor", "run_range"),
                instance_floor=self.rng.choice([0, 0, 1]),
                targets=None,
            )
            found["functions"][name].pop("instance_limit", None)
            if self.maybe(0.4):
                found["functions"][name]["instance_limit"] = self.plain(int, _between(2, 10**9))
        for place, name in enumerate(functions[:-1]):
            after = f"queues.q{place + 1}" if f"q{place + 1}" in found["queues"] else "queues.parked"
            if self.maybe(0.5):
                found["functions"][name]["emits"] = [
                    {"into": after, "each": self.rng.choice([0, 0.3, 1, 2.5, 1000 if self.extreme() else 3])}
                ]
        self.beside(found, functions)
        if self.maybe(0.2):
            found["environments"] = {
                "live": {},
                "trial": self.table(
                    e.Environment, account=self.rng.choice([None, "other"]), demand=self.rng.choice([0, 0.1, 1])
                ),
            }
        if self.maybe(0.3):
            by = {"month": {self.read_by(f._month): self.of(MONEY)}} if self.maybe(0.3) else None
            found["targets"] = self.table(e.Targets, by=by)
        return found

    def beside(self, found: dict[str, Any], functions: list[str]) -> None:
        """Requests between functions, outside services, incidents."""
        for place, name in enumerate(functions[:-1]):
            if f"e{place + 1}" in found.get("endpoints", {}) and self.maybe(0.7):
                asked = {"to": f"endpoints.e{place + 1}", "each": self.rng.choice([0, 0.4, 1, 2])}
                found["functions"][name]["asks"] = [asked | {"needs": self.maybe(0.5)}]
        if self.maybe(0.3):
            found["outside"] = {"text": self.table(e.Outside, ("currency",))}
            use = {"what": "text", "each": self.rng.choice([0, 1, 2.5]), "on": self.rng.choice(["handled", "attempt"])}
            found["functions"][functions[0]]["uses"] = [use]
        if self.maybe(0.3):
            found["incidents"] = self.incidents(functions)

    def name(self, letter: str, place: int) -> str:
        return f"{letter}{place}" if not self.extreme() else self.of(TEXTS) + f" {place}"

    def source(self, found: dict[str, Any], place: int, function: str) -> None:
        kind = self.rng.choice(SOURCES)
        name = f"{kind[0]}{place}"
        address = f"{kind}.{name}"
        trigger: dict[str, Any] = {"from": address, "to": function}
        tables: dict[str, Any] = {
            "queues": lambda: self.table(
                e.Queue,
                ("dead_letter",),
                backlog=self.rng.choice([0, 0, 50]),
                dead_letter=self.rng.choice([None, "queues.parked"]),
            ),
            "streams": lambda: self.table(e.Stream, partitions=self.rng.choice([1, 3])),
            "topics": lambda: (
                {"feeds": [{"into": "queues.parked", "share": self.rng.choice([0, 0.5, 1])}]} if self.maybe() else {}
            ),
            "schedules": lambda: self.table(
                e.Schedule, cron=self.of(CRONS), every=None, rrule=None, seconds=None, **_NO_START
            ),
        }
        found.setdefault(kind, {})[name] = tables.get(kind, dict)()
        takes = {
            "queues": ("batch", "batch_wait", "readers", "on_failure"),
            "streams": ("batch", "batch_wait", "on_failure", "tries"),
            "endpoints": (),
            "topics": ("share", "tries"),
        }
        for key in takes.get(kind, ("tries",)):
            if self.maybe():
                trigger[key] = self.field(e.Trigger.model_fields[key])
        found["triggers"].append(trigger)
        if kind != "schedules":
            found["demand"][f"d{place}"] = self.demand(address)

    def demand(self, into: str) -> dict[str, Any]:
        form = self.rng.choice(
            ["rate", "rate", "monthly", "lumps", *(["clients"] if into.startswith("endpoints") else [])]
        )
        given: dict[str, Any] = dict.fromkeys(
            ("rate", "monthly", "lumps", "clients", "trace", "burst", "repeat", "range", "growth")
        )
        given["spread"] = self.rng.choice(["poisson", "even", "bursty"])
        if given["spread"] == "bursty":
            given["burst"] = self.rng.choice([1, 8, 1_000_000 if self.extreme() else 3])
        given[form] = {
            "rate": lambda: self.of(RATES), "monthly": lambda: self.rng.choice([0, 1, 90 if self.small else 400, 10**13 if self.extreme() else 30]),
            "lumps": lambda: [self.lump()], "clients": lambda: self.rng.choice([1, 3, 1_000_000 if self.extreme() else 2]),
        }[form]()  # fmt: skip
        if form == "clients":
            given |= {"think": self.rng.choice(["0 s", "10 min", "1 h"]), "spread": None, "burst": None}
        return self.table(e.Demand, into=into, **given)


def _bounds(extra: tuple[Any, ...]) -> tuple[Any, Any]:
    """Least and most of a number, from the marks of its type."""
    marks = _marks(extra)
    least: list[Any] = [getattr(m, "ge", None) for m in marks if getattr(m, "ge", None) is not None]
    least += [
        m.gt + (1e-3 if isinstance(m.gt, float) or m.gt in (0, -1) else 1)
        for m in marks
        if getattr(m, "gt", None) is not None
    ]
    most: list[Any] = [getattr(m, "le", None) for m in marks if getattr(m, "le", None) is not None]
    most += [
        m.lt - 1 if isinstance(m.lt, int) and m.lt > 1 else m.lt * 0.999
        for m in marks
        if getattr(m, "lt", None) is not None
    ]
    bounds: Any = max(least, default=None), min(most, default=None)
    return bounds


def _marks(extra: tuple[Any, ...]) -> list[Any]:
    return [part for mark in extra for part in (getattr(mark, "metadata", None) or [mark])]


def _between(low: int, high: int) -> tuple[Any, ...]:
    return (Field(ge=low, le=high),)


def files_of(seed: int, small: bool = False) -> dict[str, str]:
    """The files of a case: a model and its card; ``small``: with some hundred events at most, as a rule."""
    maker = Maker(seed, small)
    return {"model.toml": toml(maker.model()), "card.toml": toml(maker.card())}
