"""The world of a simulation as record arrays: what the kernels read and write.

Times are int64 nanoseconds since the month's start. Links between records are indices, -1 for none.
A simulated function is a *unit*: one function in one environment.
"""

from __future__ import annotations

from collections import namedtuple
from typing import Any

import numpy as np

NEVER = np.int64(2**62)

# Constants are np.int64 and not literals, so that Numba compiles one version of each kernel, not one a value.
UP, SAME, DOWN, NONE = np.int64(1), np.int64(0), np.int64(-1), np.int64(-1)

# Order of what happens at one instant (rules.md section 1). Dispatch stands between ARRIVE and REFUSE.
TICK, END, DUE, EXPIRE, ARRIVE, WAKE, REFUSE, LOOK, IDLE = map(np.int64, range(9))

# What a calendar entry is about.
(K_TICK, K_RUN_END, K_READY, K_DELAY_OVER, K_VISIBLE, K_RETRY, K_READER, K_EXPIRE_QUEUE, K_EXPIRE_PARTITION,
 K_TAP, K_CLIENT, K_WAKE, K_WAKE_PART, K_REFUSE, K_LOOK, K_IDLE, K_NODE_IDLE, K_EXPIRE_BATCH) = map(np.int64, range(18))  # fmt: skip

SCHEDULE, QUEUE, TOPIC, STREAM, ENDPOINT, FOLDER = map(np.int64, range(6))
KINDS = ("schedules", "queues", "topics", "streams", "endpoints", "folders")
PER_CALL, POLLED, RESERVED = map(np.int64, range(3))

# States of a call.
FREE, WAITING, FRESH, BACKOFF, COLD, RUNNING = map(np.int64, range(6))
# States of an instance.
ABSENT, STARTING, READY = map(np.int64, range(3))
# How an attempt ended, in the diary.
SUCCEEDED, FAILED, TIMED_OUT, THROTTLED = map(np.int64, range(4))
# States of an event.
GONE, DELAYED, VISIBLE, INVISIBLE, CARRIED = map(np.int64, range(5))

#: In place of a tap: an event laid into a lane that a sampled month keeps full (``engine.sampling``).
LAID = np.int64(-2)
#: What ``lay`` fills: a queue, a partition, the line of a trigger whose calls wait.
LAY_QUEUE, LAY_PARTITION, LAY_LINE = map(np.int64, range(3))

# What Python asks of the kernels (``kernel.loop.simulation``), and what playing comes back with.
BEGIN, BACKLOG, PLAY, FLUSH, FINISH, LAY = map(np.int64, range(6))
DONE, PAUSED, MORE_ROOM, REACHED = map(np.int64, range(4))

# Tap kinds: a rate process, exact counts in stretches, firings, closed-loop clients.
TAP_RATE, TAP_COUNTED, TAP_CLIENTS = map(np.int64, range(3))
POISSON, EVEN, BURSTY = map(np.int64, range(3))

# Quantile sketch: 128 bins an octave, so a bin is at most 1/128 wide and its middle within 0.4 %.
SUB_BITS = 7
WAIT_BINS = 48 * 128
OFFSET_BITS = 24
LEVEL_BINS = 2_048 + 24 * 128

# Lists of a source and of a unit: offsets from ``lists``.
L_DELAYED, L_VISIBLE, L_INVISIBLE = map(np.int64, range(3))
L_LINE, L_FRESH, L_PARTS, L_FREE, L_STARTING = map(np.int64, range(5))

#: Sums of times over thousands of instances leave an int64 of nanoseconds. They are kept in two words:
#: ``X_hi`` counts 2^26 ns, ``X_ns`` the rest (not carried over, so no addition branches). ``wide`` puts them together.
WIDE_BITS, WIDE_LOW = np.int64(26), np.int64(2**26 - 1)
WIDE = {"billed_ns": "billed_hi", "busy_ns": "busy_hi", "life_ns": "life_hi", "idle_floor_ns": "idle_floor_hi",
        "node_hours_ns": "node_hours_hi"}  # fmt: skip

SERIES = ("arrivals", "throttled", "concurrency_peak", "instances_peak", "backlog_peak", "oldest_age_s")

_INTS: dict[str, str] = {
    "clock": """now horizon until lay_kind lay_ref lay_tap lay_edge lay_payload lay_stream number dirty_n heap_n free_ev ev_left free_ca ca_left free_cg cg_left free_in in_left
        pend_head pend_n in_flight peak since attempts hour hours hour_ns units margin steps arrived ended reserved_n trail_n diary_n""",
    "unit": """account plan_kind bills limit shown_limit floor slots memory timeout keep_alive cold_billed
        round_ns least_ns payload_limit eager wait_limit first_wait longest_wait give_up retry_from retry_n
        look_every look_step look_per window_at window_n window_size window_top window_top_at look_armed last_look target
        run_kind run_from run_n cold_kind cold_from cold_n rng per_item
        burst_units token_cost ramp_units token_level token_at token_scope
        first_trigger first_emit emit_n
        count lists idle_timer busy_n waiting refused_since dirty in_flight in_flight_events
        attempts succeeded failed timed_out throttled calls started cold_starts
        ev_in ev_ok ev_errored ev_rejected ev_lost ev_dead ev_expired ev_large ev_skipped ev_left ev_flying ev_cut duplicates
        conc_since conc_peak inst_since inst_peak at_limit_ns limit_since billed_ns busy_ns life_ns idle_floor_ns
        billed_hi busy_hi life_hi idle_floor_hi
        floor_since backlog_peak wait_max late_max requests replies firings cargo_cut memory_cost fail_each lives
        token_wake longest_run stream_n lag_since lag_oldest lag_max lag_zero wait_zero cpu_n""",
    "account": """limit in_flight blocked first_unit unit_n token_level token_at first_instance instance_n
        first_node node_n nodes_limit nodes_floor node_start node_keep_alive node_memory nodes_up node_hours_ns node_hours_hi
        nodes_wait memory_total""",
    "trigger": """source unit batch batch_wait readers in_flight tries dead_letter rng active first_part part_n
        fail_each wake_at share_all skip items kind list_q after letters""",
    "source": """kind visibility retention tries delay dead_letter fifo groups gate partitions rng turn
        first_trigger trigger_n first_edge edge_n lists delay_timer inv_timer expire_timer idle_ns idle_since
        sends receives deletes arrived ended ended_at ev_dead ev_expired payload_limit items overlap_skip home full
        """,
    "part": "trigger list first waiting in_flight failing number prev next listed wake_at timer arrived full dropped",
    "list": "head tail hint n",
    "tap": """source kind spread first_seg seg_n seg at left rng pay_kind pay_from pay_n think_kind think_from think_n
        base k clients same client_tries client_pause refused_pause""",
    "edge": "target share_all pay_kind pay_from pay_n whole sent",
    "instance": """unit account node n ready created released prev next cold_call active_since alive memory_free
        cold_ns listed number""",
    "node": "memory ready up since idle_since timer n account",
    "call": """unit trigger number n items head tail state instance started run_at ends timed_out cold_ns tries wait
        prev next payload list counted gate part arrived timer""",
    "event": "number at seen due receipts payload source prev next state refs tap tries trigger items handled hold",
    "cargo": "event next",
    "entry": "at key what",
    "pending": "source payload",
    "step": "at unit count ready",
    "attempt": "unit number items at run_at ended cold_ns outcome",
}
_FLOATS: dict[str, str] = {
    "unit": """run_scale run_sigma cold_scale cold_sigma cold_factor per_mb cpu_factor cpu_load cpu_cap error_rate
        poison_rate vcpu""",
    "account": "cpu_cap node_vcpu",
    "trigger": "share",
    "source": "skew",
    "tap": "pay_scale pay_sigma think_scale think_sigma burst area",
    "edge": "share fraction pay_scale pay_sigma",
    "instance": "load",
    "node": "vcpu",
}


def _dtype(kind: str) -> np.dtype[Any]:
    ints = [(name, np.int64) for name in _INTS.get(kind, "").split()]
    floats = [(name, np.float64) for name in _FLOATS.get(kind, "").split()]
    return np.dtype(ints + floats, align=True)


DTYPES: dict[str, np.dtype[Any]] = {kind: _dtype(kind) for kind in _INTS}
#: A stretch of a tap: until ``end`` events come at ``rate`` per ns (``gap`` = 1 / rate), or exactly ``count`` of them.
DTYPES["seg"] = np.dtype(
    [("start", np.int64), ("end", np.int64), ("count", np.int64), ("rate", np.float64), ("gap", np.float64)], align=True
)

DTYPES |= {
    name: np.dtype([("v", kind)]) for name, kind in (("int", np.int64), ("real", np.float64), ("bits", np.uint64))
}

World = namedtuple(
    "World",
    "ck ls fn ac tr so pa tp sg ed ins no ca ev cg hp pend dirty window rng samples waits_ns h_wait h_late h_conc h_inst h_lag trail diary series",
)
#: Which dtype each array of the world has, for the arrays that are records.
KIND_OF = {
    "ck": "clock", "ls": "list", "fn": "unit", "ac": "account", "tr": "trigger", "so": "source", "pa": "part", "tp": "tap",
    "sg": "seg", "ed": "edge", "ins": "instance", "no": "node", "ca": "call", "ev": "event", "cg": "cargo",
    "hp": "entry", "pend": "pending", "dirty": "int", "window": "int", "rng": "bits", "samples": "real",
    "waits_ns": "int", "h_wait": "int", "h_late": "int", "trail": "step", "diary": "attempt", "h_conc": "int", "h_inst": "int", "h_lag": "int", "series": "real",
}  # fmt: skip


#: What kernels are handed: the address of each array of the world, and its length.
ADDRESSES = np.dtype([(name, np.int64) for name in World._fields] + [(f"n_{name}", np.int64) for name in World._fields])


def wide(record: Any, name: str) -> int:
    """A sum of times of one record, ns, whatever its size."""
    return (int(record[WIDE[name]]) << int(WIDE_BITS)) + int(record[name])


def wide_floats(array: Any, name: str) -> np.ndarray[Any, np.dtype[np.float64]]:
    """A field of a record array as floats; sums of times are put together from their two words."""
    values: np.ndarray[Any, np.dtype[np.float64]] = array[name].astype(float)
    return values + array[WIDE[name]] * 2.0 ** int(WIDE_BITS) if name in WIDE else values


def set_wide(array: Any, name: str, values: np.ndarray[Any, np.dtype[np.float64]]) -> None:
    """Put floats into a field as whole numbers, sums of times into their two words."""
    if name in WIDE:
        array[WIDE[name]], values = np.divmod(values, 2.0 ** int(WIDE_BITS))
    array[name] = np.rint(values)


def records(kind: str, n: int) -> np.ndarray[Any, np.dtype[Any]]:
    """``n`` zeroed records (at least one, so that a kernel never sees an empty array)."""
    return np.zeros(max(1, n), DTYPES[kind])
