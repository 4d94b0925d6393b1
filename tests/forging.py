"""Forges one index of every kind of record in a world and plays it in the checked form of the kernels; prints what was caught.

Run by ``tests/test_fuzzing.py`` in a process of its own: ``ECHOTALLY_KERNELS=checked python -m tests.forging MODEL``.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from typing import Any

from echotally.engine import records as r
from echotally.engine.kernel.checked import BadIndex
from echotally.engine.running import ask, begun
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


#: Array of the world -> (plan on which it is reached, how an index into it is forged).
FORGERIES: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "ls": ("calls", _set("so", "lists")), "fn": ("calls", _set("tr", "unit")), "ac": ("calls", _set("fn", "account")),
    "tr": ("calls", _set("so", "first_trigger")), "so": ("calls", _set("tp", "source")), "pa": ("calls", _set("tr", "first_part")),
    "tp": ("calls", _set("hp", "what", (FAR << 5) | int(r.K_TAP))), "sg": ("calls", _set("tp", "first_seg")), "ed": ("calls", _set("fn", "first_emit")),
    "ins": ("calls", _set("ck", "free_in")), "no": ("nodes", _set("ac", "first_node")), "ca": ("calls", _set("ck", "free_ca")),
    "ev": ("calls", _set("ck", "free_ev")), "cg": ("calls", _set("ck", "free_cg")), "hp": ("calls", _set("ck", "heap_n", -5)),
    "pend": ("calls", _both(_set("ck", "pend_head"), _set("ck", "pend_n", 1))), "dirty": ("calls", _set("ck", "dirty_n", 50)),
    "window": ("polled", _set("fn", "window_at")), "rng": ("calls", _set("tp", "rng")),
    "samples": ("calls", _both(_set("tp", "pay_kind", 3), _set("tp", "pay_from"), _set("tp", "pay_n", 5))),
    "waits_ns": ("calls", _both(_set("fn", "retry_from"), _set("fn", "error_rate", 1.0), _set("tr", "tries", 9))),
    "trail": ("calls", _set("ck", "trail_n", -5)), "diary": ("calls", _set("ck", "diary_n", -5)),
    **{name: ("calls", _cut(name)) for name in ("h_wait", "h_late", "h_conc", "h_inst", "h_lag", "series")},
}  # fmt: skip


def caught(loaded: Loaded, plan: str, forge: Callable[[Any], Any]) -> str:
    """What a forged world ends with when it is played."""
    built = begun(
        loaded.model, loaded.month, placement_on(loaded.model, loaded.offers, loaded.offers[f"test.{plan}"]), 1
    )
    world = forge(built.world)
    try:
        ask(world, r.PLAY, 3_000)
        ask(world, r.FLUSH)
        ask(world, r.FINISH)
    except BadIndex as error:
        return str(error)
    return "not caught"


if __name__ == "__main__":
    model = load(sys.argv[1])
    print(json.dumps({name: caught(model, plan, forge) for name, (plan, forge) in FORGERIES.items()}))
