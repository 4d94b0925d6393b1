"""Builds the world of a simulation: a model, its month, and the plan each function is on, as arrays."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import numpy as np

from echotally.demand.month import MonthPlan, Tap
from echotally.engine import records as r
from echotally.engine.ziggurat import tables
from echotally.errors import BadInput
from echotally.model.estate import Model
from echotally.model.spread import SAMPLES, Spread
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer
from echotally.rates.node_room import MOST_NODES
from echotally.rates.unit_settings import UnitSettings, unit_settings

_BILLS = ("runs", "active", "allocated", "reserved", "nodes")
_UNLIMITED = 2**40
_RNG_PER_UNIT = 6


@dataclass(frozen=True)
class Unit:
    """A function in an environment, on a plan."""

    function: str
    environment: str
    account: str
    offer: Offer
    settings: UnitSettings


@dataclass
class Built:
    """The world and what its indices mean."""

    world: Any
    units: list[Unit]
    accounts: list[tuple[str, str]]
    sources: list[tuple[str, str]]
    backlogs: list[tuple[int, int]] = field(default_factory=list)


def stream_seed(seed: int, label: str) -> int:
    """The 64-bit start of a random stream: a digest of the seed and what the stream is for."""
    return int.from_bytes(hashlib.blake2b(f"{seed}\0{label}".encode(), digest_size=8).digest(), "little")


class _Builder:
    def __init__(self, model: Model, month: MonthPlan, placement: Mapping[str, Offer], seed: int) -> None:
        self.model, self.month, self.seed = model, month, seed
        environments = model.environments.items()
        units = [
            Unit(
                name,
                env,
                e.account or "",
                placement[name],
                unit_settings(model.functions[name], placement[name].plan),
            )
            for env, e in environments
            for name in model.functions
        ]
        self.accounts = list(dict.fromkeys((u.account, u.offer.name) for u in units))
        self.units = sorted(units, key=lambda u: self.accounts.index((u.account, u.offer.name)))
        self.unit_at = {(u.function, u.environment): n for n, u in enumerate(self.units)}
        self.sources = [(env, s) for env in model.environments for s in model.sources()]
        self.source_at = {key: n for n, key in enumerate(self.sources)}
        self.streams: list[str] = []
        # Exponential draws look their tables up at the head.
        self.samples: list[float] = tables()
        self.sample_at: dict[tuple[float, ...], int] = {}
        self.waits: list[int] = []
        self.lists = 0
        self.parts = 0

    def stream(self, *labels: str) -> int:
        """Indices of new random streams, one a label; returns the first."""
        self.streams += labels
        return len(self.streams) - len(labels)

    def take_lists(self, n: int) -> int:
        self.lists += n
        return self.lists - n

    def spread(self, record: Any, prefix: str, spread: Spread) -> None:
        record[f"{prefix}_kind"] = spread.kind
        record[f"{prefix}_scale"], record[f"{prefix}_sigma"] = spread.scale, spread.sigma
        if spread.kind == SAMPLES:
            if spread.samples not in self.sample_at:
                self.sample_at[spread.samples] = len(self.samples)
                self.samples += spread.samples
            record[f"{prefix}_from"], record[f"{prefix}_n"] = (
                self.sample_at[spread.samples],
                len(spread.samples),
            )

    def build(self) -> Built:
        fn, tr, so = self._units(), self._triggers(), self._sources()
        self._wire(fn, tr, so)
        pa = self._partitions(tr)
        ed = self._edges(fn, so)
        tp, sg = self._taps(self.month.taps)
        ac, ins, no = self._accounts()
        world = self._world(fn, tr, so, pa, ed, tp, sg, ac, ins, no)
        backlogs = [(n, self.model.queues[name[7:]].backlog) for n, (_, name) in enumerate(self.sources)
                    if name.startswith("queues.") and self.model.queues[name[7:]].backlog]  # fmt: skip
        return Built(world, self.units, self.accounts, self.sources, backlogs)

    def _units(self) -> Any:
        fn = r.records("unit", len(self.units))
        self.window = 0
        for n, unit in enumerate(self.units):
            self._unit(fn[n], unit)
        return fn

    def _unit(self, f: Any, unit: Unit) -> None:
        function, plan, settings = self.model.functions[unit.function], unit.offer.plan, unit.settings
        f["account"] = self.accounts.index((unit.account, unit.offer.name))
        f["plan_kind"] = (
            r.RESERVED if plan.bills == "reserved" else r.POLLED if plan.scaling.kind == "polled" else r.PER_CALL
        )
        f["bills"] = _BILLS.index(plan.bills)
        f["limit"] = _UNLIMITED if settings.limit is None else settings.limit
        f["shown_limit"] = -1 if settings.limit is None else settings.limit
        f["floor"] = min(function.instance_floor, int(f["limit"])) if plan.bills != "reserved" else 0
        reserved = plan.bills == "reserved"
        f["slots"] = (plan.slots_limit or _UNLIMITED) if reserved else function.slots
        f["timeout"] = min(function.timeout, plan.timeout_limit or function.timeout)
        f["keep_alive"], f["cold_billed"] = plan.keep_alive, plan.cold_start_billed
        f["round_ns"], f["least_ns"] = plan.rounding.time, plan.rounding.at_least
        f["payload_limit"] = -1 if plan.payload_limit is None else plan.payload_limit
        f["eager"], f["wait_limit"] = plan.pull == "eager", plan.wait_limit
        f["first_wait"], f["longest_wait"], f["give_up"] = (
            plan.push.first_wait,
            plan.push.longest_wait,
            plan.push.give_up,
        )
        f["retry_from"], f["retry_n"] = len(self.waits), len(plan.push.retry_waits)
        self.waits += plan.push.retry_waits
        self._scaling(f, plan)
        self.spread(f, "run", function.run)
        self.spread(f, "cold", function.cold_start)
        f["cold_factor"] = plan.cold_start_factor
        f["per_item"], f["per_mb"] = function.per_item, function.per_mb
        f["cpu_factor"] = settings.cpu_factor
        f["cpu_load"], f["cpu_cap"] = settings.cpu_part * settings.vcpu_used, settings.vcpu
        f["error_rate"], f["poison_rate"] = function.error_rate, function.poison_rate
        f["memory_cost"] = settings.memory_mb * 1_000_000
        f["memory"], f["vcpu"] = settings.memory_mb, plan.vcpu_each or settings.vcpu
        name = f"{unit.function}:{unit.environment}"
        f["rng"] = self.stream(*(f"{part}:{name}" for part in ("run", "cold", "error", "emit", "poison", "emitted")))
        f["lists"] = self.take_lists(5)
        f["first_trigger"] = -1
        f["idle_timer"], f["token_wake"], f["lag_oldest"] = r.NEVER, -1, r.NEVER

    def _scaling(self, f: Any, plan: Plan) -> None:
        scaling = plan.scaling
        if scaling.kind == "polled":
            f["look_every"], f["look_step"], f["look_per"] = scaling.every, scaling.step, scaling.per_instance
            f["last_look"], f["look_armed"] = -(scaling.every or 0), 1
            # A closed window: looks from exactly keep_alive ago until now.
            f["window_at"], f["window_size"] = self.window, plan.keep_alive // (scaling.every or 1) + 1
            self.window += int(f["window_size"])
        elif scaling.burst is not None and scaling.ramp is not None:
            per_ns, ns = _short_ramp(scaling.ramp, scaling.burst)
            f["token_cost"], f["ramp_units"] = ns, per_ns
            f["burst_units"] = f["token_level"] = scaling.burst * ns
            f["token_scope"] = scaling.scope == "account"

    def _triggers(self) -> Any:
        triggers = [(env, s, t) for env, s in self.sources for t in self.model.triggers if t.from_ == s]
        self.trigger_list = triggers
        tr = r.records("trigger", len(triggers))
        for n, (env, s, t) in enumerate(triggers):
            g = tr[n]
            kind = r.KINDS.index(s.split(".")[0])
            g["kind"], g["source"], g["unit"] = kind, self.source_at[env, s], self.unit_at[t.to, env]
            g["batch"], g["batch_wait"] = t.batch, t.batch_wait
            g["readers"] = t.readers or (100 if kind == r.QUEUE else 1)
            g["tries"] = t.tries if t.tries is not None else (0 if kind == r.STREAM else 3)
            g["dead_letter"] = self.source_at[env, t.dead_letter] if t.dead_letter else -1
            g["fail_each"], g["wake_at"] = t.on_failure == "failed", -1
            g["share"], g["share_all"] = t.share, t.share >= 1
            g["items"], g["after"] = 1, -1
            if kind == r.SCHEDULE:
                schedule = self.model.schedules[s.split(".", 1)[1]]
                g["items"], g["skip"] = schedule.items, schedule.overlap == "skip"
            g["rng"] = self.stream(f"share:{s}:{t.to}:{env}")
        return tr

    def _sources(self) -> Any:
        so = r.records("source", len(self.sources))
        for n, (env, address) in enumerate(self.sources):
            q = so[n]
            kind, name = address.split(".", 1)
            q["kind"] = r.KINDS.index(kind)
            q["lists"], q["rng"] = self.take_lists(3), self.stream(f"source:{address}:{env}")
            q["delay_timer"] = q["inv_timer"] = q["expire_timer"] = r.NEVER
            q["dead_letter"], q["home"], q["payload_limit"], q["skew"], q["partitions"] = -1, -1, -1, -1, 1
            if kind == "queues":
                queue = self.model.queues[name]
                q["visibility"], q["retention"], q["delay"] = queue.visibility, queue.retention, queue.delay
                q["tries"], q["fifo"], q["groups"] = queue.tries, queue.fifo, queue.groups
                q["dead_letter"] = self.source_at[env, queue.dead_letter] if queue.dead_letter else -1
            elif kind == "streams":
                stream = self.model.streams[name]
                q["partitions"], q["retention"] = stream.partitions, stream.retention
                q["skew"] = -1 if stream.skew is None else stream.skew
        return so

    def _wire(self, fn: Any, tr: Any, so: Any) -> None:
        """Triggers in the order of their sources; each unit and source knows its first."""
        last: dict[int, int] = {}
        for n in range(len(self.trigger_list)):
            source, unit = so[tr[n]["source"]], int(tr[n]["unit"])
            if source["trigger_n"] == 0:
                source["first_trigger"], source["home"] = n, unit
                source["payload_limit"] = fn[unit]["payload_limit"]
            source["trigger_n"] += 1
            if unit in last:
                tr[last[unit]]["after"] = n
            else:
                fn[unit]["first_trigger"] = n
            last[unit] = n
            tr[n]["list_q"] = source["lists"] + r.L_VISIBLE
            fn[unit]["stream_n"] += source["kind"] == r.STREAM

    def _partitions(self, tr: Any) -> Any:
        streams = [
            (n, self.model.streams[s[8:]]) for n, (_, s, _) in enumerate(self.trigger_list) if s.startswith("streams.")
        ]
        pa = r.records("part", sum(stream.partitions for _, stream in streams))
        place = 0
        for n, stream in streams:
            tr[n]["first_part"], tr[n]["part_n"] = place, stream.partitions
            for p in range(place, place + stream.partitions):
                pa[p]["trigger"], pa[p]["list"] = n, self.take_lists(1)
                pa[p]["first"], pa[p]["wake_at"], pa[p]["timer"] = -1, -1, r.NEVER
            place += stream.partitions
        return pa

    def _edges(self, fn: Any, so: Any) -> Any:
        """Feeds of topics and emits of functions."""
        rows: list[tuple[int, float, float, Spread]] = []
        for n, (env, address) in enumerate(self.sources):
            if address.startswith("topics."):
                feeds = self.model.topics[address[7:]].feeds
                so[n]["first_edge"], so[n]["edge_n"] = len(rows), len(feeds)
                rows += [(self.source_at[env, feed.into], feed.share, 0.0, Spread(0, 0.0)) for feed in feeds]
        for n, unit in enumerate(self.units):
            emits = self.model.functions[unit.function].emits
            fn[n]["first_emit"], fn[n]["emit_n"] = len(rows), len(emits)
            rows += [(self.source_at[unit.environment, emit.into], 1.0, emit.each, emit.payload) for emit in emits]
        ed = r.records("edge", len(rows))
        for x, (target, share, each, payload) in enumerate(rows):
            ed[x]["target"], ed[x]["share"], ed[x]["share_all"] = target, share, share >= 1
            ed[x]["whole"], ed[x]["fraction"] = int(each), each - int(each)
            self.spread(ed[x], "pay", payload)
        return ed

    def _taps(self, taps: Iterable[Tap]) -> tuple[Any, Any]:
        taps = list(taps)
        tp = r.records("tap", len(taps))
        stretches: list[tuple[int, int, int, float, float]] = []
        for n, tap in enumerate(taps):
            t = tp[n]
            t["source"] = self.source_at[tap.environment, tap.source]
            t["kind"] = {"rate": r.TAP_RATE, "counted": r.TAP_COUNTED, "clients": r.TAP_CLIENTS}[tap.kind]
            t["spread"] = {"poisson": r.POISSON, "even": r.EVEN, "bursty": r.BURSTY}[tap.spread]
            t["burst"] = tap.burst
            t["first_seg"], t["seg_n"] = len(stretches), len(tap.stretches)
            stretches += [
                (s.start_ns, s.end_ns, s.count, s.rate, 1 / s.rate if s.rate else np.inf) for s in tap.stretches
            ]
            t["seg"] = -1 if tap.kind == "counted" else 0
            t["rng"] = self.stream(tap.label, f"payload:{tap.label}", f"think:{tap.label}")
            self.spread(t, "pay", tap.payload)
            self.spread(t, "think", tap.think)
            if tap.kind == "clients":
                t["think_scale"] = tap.think.scale if tap.think.kind != SAMPLES else tap.think.mean
            t["refused_pause"] = tap.refused_pause_ns
            t["clients"], t["client_tries"], t["client_pause"] = (
                tap.clients,
                tap.client_tries,
                tap.client_pause_ns,
            )
        sg = r.records("seg", len(stretches))
        if stretches:
            sg[:] = np.array(stretches, dtype=sg.dtype)
        return tp, sg

    def _accounts(self) -> tuple[Any, Any, Any]:
        ac = r.records("account", len(self.accounts))
        instances: list[tuple[int, Plan]] = []
        nodes: list[tuple[int, Plan]] = []
        for n in range(len(self.accounts)):
            members = [k for k, u in enumerate(self.units) if (u.account, u.offer.name) == self.accounts[n]]
            plan = self.units[members[0]].offer.plan
            a = ac[n]
            a["limit"] = -1 if plan.concurrency_limit is None else plan.concurrency_limit
            a["first_unit"], a["unit_n"] = members[0], len(members)
            if plan.scaling.burst is not None and plan.scaling.ramp is not None:
                a["token_level"] = plan.scaling.burst * _short_ramp(plan.scaling.ramp, plan.scaling.burst)[1]
            a["first_instance"], a["first_node"] = len(instances), len(nodes)
            if plan.bills == "reserved":
                a["instance_n"] = plan.instances
                a["cpu_cap"] = (plan.instance_vcpu or 0) * (1 - plan.already_used)
                instances += [(n, plan)] * (plan.instances or 0)
            if plan.bills == "nodes":
                a["node_n"] = min(plan.nodes_limit or MOST_NODES, MOST_NODES)
                a["nodes_floor"], a["node_start"], a["node_keep_alive"] = (
                    plan.nodes_floor,
                    plan.node_start,
                    plan.node_keep_alive,
                )
                a["node_memory"], a["node_vcpu"] = plan.node_memory, plan.node_vcpu
                nodes += [(n, plan)] * int(a["node_n"])
        return ac, self._reserved(instances), self._nodes(nodes, ac)

    def _reserved(self, instances: list[tuple[int, Plan]]) -> Any:
        self.reserved = len(instances)
        ins = r.records("instance", len(instances) + 256)
        for i, (account, plan) in enumerate(instances):
            ins[i]["unit"], ins[i]["account"], ins[i]["alive"] = -1, account, r.READY
            ins[i]["cold_call"], ins[i]["active_since"], ins[i]["node"] = -1, -1, -1
            ins[i]["memory_free"] = int((plan.instance_memory or 0) * 1_000_000 * (1 - plan.already_used) + 0.5)
        return ins

    def _nodes(self, nodes: list[tuple[int, Plan]], ac: Any) -> Any:
        no = r.records("node", len(nodes))
        for x, (account, plan) in enumerate(nodes):
            no[x]["account"] = account
            if x - ac[account]["first_node"] < plan.nodes_floor:
                no[x]["up"], no[x]["memory"], no[x]["vcpu"] = 1, plan.node_memory, plan.node_vcpu
                ac[account]["nodes_up"] += 1
        return no

    def _margin(self, fn: Any, tr: Any, so: Any, ed: Any) -> int:
        """The most records one step can take: a batch, what it puts out, the copies of one event."""
        batch = int(tr["batch"].max())
        items = max(batch, int(tr["items"].max()))
        put_out = max(
            (sum(int(ed[x]["whole"]) + 1 for x in range(f["first_emit"], f["first_emit"] + f["emit_n"])) for f in fn),
            default=0,
        )
        copies = int((so["trigger_n"] + so["edge_n"]).max())
        floors = int(fn["floor"].sum())
        steps = int(fn["look_step"].max())
        margin = max(batch, items * put_out, copies, steps, floors) + 16
        if margin > 20_000_000:
            raise BadInput(
                f"one run would put out or start {margin:,} things at once; that is more than can be simulated"
            )
        return margin

    def _world(self, fn: Any, tr: Any, so: Any, pa: Any, ed: Any, tp: Any, sg: Any, ac: Any, ins: Any, no: Any) -> Any:
        ck = r.records("clock", 1)
        c = ck[0]
        c["horizon"], c["units"], c["hour_ns"] = self.month.clock.length_ns, len(self.units), 3_600 * 10**9
        c["until"] = r.NEVER
        c["margin"] = margin = self._margin(fn, tr, so, ed)
        n_units, hours = len(self.units), -(-self.month.clock.length_ns // (3_600 * 10**9))
        c["hours"] = hours
        ls = r.records("list", self.lists)
        for name in ("head", "tail", "hint"):
            ls[name] = -1
        size = 2 * margin + 1_024
        clients = int(tp["clients"].sum())
        ev, ca, cg = (r.records(kind, size) for kind in ("event", "call", "cargo"))
        ins = _longer(ins, len(ins) + size)
        for array, first, head, left in ((ev, 0, "free_ev", "ev_left"), (ca, 0, "free_ca", "ca_left"),
                                         (cg, 0, "free_cg", "cg_left"), (ins, self.reserved, "free_in", "in_left")):  # fmt: skip
            link_free(array, first)
            c[head], c[left] = first, len(array) - first
        c["reserved_n"] = self.reserved
        lag_rows = n_units if any(fn["stream_n"]) else 1
        seeds = [stream_seed(self.seed, label) for label in self.streams]
        return r.World(
            ck, ls, fn, ac, tr, so, pa, tp, sg, ed, ins, no, ca, ev, cg,
            r.records("entry", 4 * size + clients + 4 * n_units), r.records("pending", size),
            np.zeros(n_units + 1, np.int64), np.zeros(self.window + 1, np.int64),
            np.array([*seeds, 0], np.uint64), np.array([*self.samples, 0.0]), np.array([*self.waits, 0], np.int64),
            np.zeros((n_units, 2, r.WAIT_BINS), np.int64), np.zeros((n_units, 2, r.WAIT_BINS), np.int64),
            np.zeros((n_units + 1, r.LEVEL_BINS), np.int64),
            np.zeros((n_units, r.LEVEL_BINS), np.int64), np.zeros((lag_rows, 2, r.WAIT_BINS), np.int64),
            r.records("step", 1), r.records("attempt", 1),
            np.zeros((n_units, max(1, hours), len(r.SERIES)))
        )  # fmt: skip


def _short_ramp(ramp: tuple[int, int], burst: int) -> tuple[int, int]:
    """Start tokens and ns of a ramp so short that a full bucket stays inside an int64: exact but for absurd fractions."""
    rate = Fraction(*ramp)
    short = rate.limit_denominator(int(2**61 // max(Fraction(burst), rate)))
    return (short.numerator, short.denominator) if short else (1, 2**61 // burst)


def link_free(array: Any, first: int) -> None:
    """Chain records ``first`` onwards into a free list."""
    array["next"][first:] = np.arange(first + 1, len(array) + 1)


def _longer(array: Any, n: int) -> Any:
    longer = np.zeros(n, array.dtype)
    longer[: len(array)] = array
    return longer


def build(model: Model, month: MonthPlan, placement: Mapping[str, Offer], seed: int) -> Built:
    """The world of one simulation. ``placement`` gives each function's plan."""
    return _Builder(model, month, placement, seed).build()
