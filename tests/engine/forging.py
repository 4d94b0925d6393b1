"""Forges one index of every kind of record in a world and plays it in the checked form of the kernels; prints what was caught.

Run by ``tests/fuzzing/test_fuzzing.py`` in a process of its own: ``ECHOTALLY_KERNELS=checked python -m tests.engine.forging MODEL``.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from typing import Any

import numpy as np

from echotally.engine import codes
from echotally.engine.kernel.checked import BadIndex
from echotally.engine.layout import none_ahead
from echotally.engine.play import ask, begun
from echotally.projection.loaded import Loaded, load, placement_on

FAR = 10**7


def _set(array: str, field: str, value: float = FAR, row: int | slice = slice(None)) -> Callable[[Any], Any]:
    def forge(world: Any) -> Any:
        getattr(world, array)[field][row] = value
        return world

    return forge


def _both(*forges: Callable[[Any], Any]) -> Callable[[Any], Any]:
    def forge(world: Any) -> Any:
        for each in forges:
            world = each(world)
        return world

    return forge


def _cut(name: str) -> Callable[[Any], Any]:
    """Take an array away whose places are worked out, not stored: every place of it is then a wrong one."""
    return lambda world: world._replace(**{name: getattr(world, name)[:0]})


def _grown(name: str) -> Callable[[Any], Any]:
    """Give an array room that a world without a diary's cargo has not."""
    return lambda world: world._replace(**{name: np.zeros(9, getattr(world, name).dtype)})


#: Array of the world -> (plan on which it is reached, how an index into it is forged).
_one_aside = _both(_set("clock", "row", 0), _set("clock", "near_until", 0), _set("clock", "aside_n", 1))


FORGERIES: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "chains": ("calls", _set("sources", "lists")), "units": ("calls", _set("triggers", "unit")), "accounts": ("calls", _set("units", "account")),
    "triggers": ("calls", _set("sources", "first_trigger")), "sources": ("calls", _set("taps", "source")), "partitions": ("calls", _set("triggers", "first_partition")),
    "taps": ("calls", _set("calendar", "what", (FAR << 5) | int(codes.K_TAP))), "stretches": ("calls", _set("taps", "first_stretch")), "edges": ("calls", _set("units", "first_emit")),
    "instances": ("calls", _set("clock", "free_instance")), "nodes": ("nodes", _set("accounts", "first_node")), "calls": ("calls", _set("clock", "free_call")),
    "events": ("calls", _set("clock", "free_event")), "cargo": ("calls", _set("clock", "free_cargo")), "calendar": ("calls", _set("clock", "entries_n", -5)),
    "aside": ("calls", _both(_one_aside, lambda world: world._replace(ahead=np.full_like(none_ahead(), FAR)))), "ahead": ("calls", _both(_one_aside, _cut("ahead"))),
    "expected": ("calls", _both(_set("clock", "expected_first"), _set("clock", "expected_n", 1))), "marked": ("calls", _set("clock", "marked_n", 50)),
    # Reached by those who find an account full.
    "crowds": ("calls", _both(_set("accounts", "limit", 0), _set("units", "crowd"))), "crowded": ("calls", _both(_set("accounts", "limit", 0), _set("crowds", "first"))),
    "window": ("polled", _set("units", "window_at")), "random": ("calls", _set("taps", "random")),
    "samples": ("calls", _both(_set("taps", "payload_kind", 3), _set("taps", "payload_from"), _set("taps", "payload_n", 5))),
    "pauses": ("calls", _both(_set("units", "retry_from"), _set("units", "error_rate", 1.0), _set("triggers", "tries", 9))),
    "trail": ("calls", _set("clock", "trail_n", -5)), "diary": ("calls", _set("clock", "diary_n", -5)),
    "carried": ("calls", _both(_grown("carried"), _set("clock", "carried_n", -5))), "born": ("calls", _both(_grown("born"), _set("clock", "born_n", -5))),
    "touched": ("calls", _both(_grown("seen"), _cut("touched"))),
    **{name: (plan, _both(_grown(name), _set("clock", f"{name}_n", -5))) for name, plan in (("moments", "calls"), ("refusals", "polled"), ("rounds", "calls"), ("seen", "calls"))},
    "turns": ("calls", _both(_cut("turns"), _set("calendar", "what", int(codes.K_TURN), 0))),
    "conditions": ("calls", _set("units", "condition")),
    "portions": ("calls", _both(_set("taps", "payload_kind", 4), _set("taps", "payload_from"), _set("taps", "payload_n", 5))),
    **{name: ("calls", _cut(name)) for name in ("sketches", "level_bins", "estate_levels", "count_bins", "lag_bins", "series", "counts", "oldest")},
    "log": ("calls", _both(_set("clock", "keeps_log", int(codes.WHOLE_LOG)), _set("clock", "log_n", -FAR))),
}  # fmt: skip


def caught(loaded: Loaded, plan: str, forge: Callable[[Any], Any]) -> str:
    """What a forged world ends with when it is played."""
    built = begun(
        loaded.model, loaded.month.arrivals, placement_on(loaded.model, loaded.offers, loaded.offers[f"test.{plan}"]), 1
    )
    world = forge(built.world)
    try:
        ask(world, codes.PLAY, 3_000)
        ask(world, codes.FLUSH)
        ask(world, codes.FINISH)
        ask(world, codes.COUNT, 0, 3_600 * 10**9)
    except BadIndex as error:
        return str(error)
    return "not caught"


if __name__ == "__main__":
    model = load(sys.argv[1])
    print(json.dumps({name: caught(model, plan, forge) for name, (plan, forge) in FORGERIES.items()}))
