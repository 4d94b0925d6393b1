"""How kernels reach the world: ``fn(w, 3)`` is unit 3, ``clock(w)`` the one clock.

Two forms give the same bytes: ``addressed`` is compiled and trusts its indices, ``checked`` is plain Python and
compares each of them. ``door(world)`` is what an entry kernel takes. Indices are made by ``engine.build``, and pools
are grown before a step could run over (``dispatch.low``).

Accessors by what they hold: ls lists, fn units (functions), ac accounts, tr triggers, so sources, pa
partitions, tp taps, sg stretches, ed edges, ins instances, no nodes, ca calls, ev events, cg cargo,
hp the calendar's heap, pend arrivals expected at this instant; the rest hold one number, ``.v``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from echotally.engine.kernel.compiled import COMPILED

if COMPILED and not TYPE_CHECKING:
    from echotally.engine.kernel.addressed import accessor, clock, door, highest_bit
else:
    from echotally.engine.kernel.checked import accessor, clock, door, highest_bit

__all__ = [
    "ac",
    "ca",
    "cg",
    "clock",
    "diary",
    "dirty",
    "door",
    "ed",
    "ev",
    "fn",
    "h_conc",
    "h_inst",
    "h_lag",
    "h_late",
    "h_wait",
    "highest_bit",
    "hp",
    "ins",
    "ls",
    "no",
    "pa",
    "pend",
    "rng",
    "samples",
    "series",
    "sg",
    "so",
    "tp",
    "tr",
    "trail",
    "waits_ns",
    "window",
]

ls = accessor("ls")
fn = accessor("fn")
ac = accessor("ac")
tr = accessor("tr")
so = accessor("so")
pa = accessor("pa")
tp = accessor("tp")
sg = accessor("sg")
ed = accessor("ed")
ins = accessor("ins")
no = accessor("no")
ca = accessor("ca")
ev = accessor("ev")
cg = accessor("cg")
hp = accessor("hp")
pend = accessor("pend")
dirty = accessor("dirty")
window = accessor("window")
rng = accessor("rng")
samples = accessor("samples")
waits_ns = accessor("waits_ns")
h_wait = accessor("h_wait")
h_late = accessor("h_late")
trail = accessor("trail")
diary = accessor("diary")
h_conc = accessor("h_conc")
h_inst = accessor("h_inst")
h_lag = accessor("h_lag")
series = accessor("series")
