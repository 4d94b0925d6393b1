"""How kernels reach the world: ``w`` is one small record of addresses, and ``fn(w, 3)`` is unit 3.

Why not pass the arrays themselves: a dozen record arrays by value are two hundred machine words a call,
which costs more than the simulation. An accessor is one load and one addition. Indices are trusted:
``engine.build`` makes them, and pools are grown before a step could run over (``dispatch.low``).

Accessors by what they hold: ls lists, fn units (functions), ac accounts, tr triggers, so sources, pa
partitions, tp taps, sg stretches, ed edges, ins instances, no nodes, ca calls, ev events, cg cargo,
hp the calendar's heap, pend arrivals expected at this instant; the rest hold one number, ``.v``.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import from_dtype, types
from numba.extending import intrinsic

from echotally.engine.records import DTYPES, KIND_OF


def _address(builder: Any, world: Any, offset: int) -> Any:
    """The address stored ``offset`` bytes into the world record; it never changes while a kernel runs."""
    start = builder.bitcast(world, ir.IntType(8).as_pointer())
    place = builder.gep(start, [ir.Constant(ir.IntType(64), offset)])
    base = builder.load(builder.bitcast(place, ir.IntType(64).as_pointer()))
    base.set_metadata("invariant.load", builder.module.add_metadata([]))
    return base


def _accessor(name: str) -> Any:
    dtype = DTYPES[KIND_OF[name]]
    record = from_dtype(dtype)
    size = dtype.itemsize

    @intrinsic
    def at(typingctx, world, index):  # type: ignore[no-untyped-def]
        def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
            base = _address(builder, args[0], signature.args[0].offset(name))
            step = builder.mul(args[1], ir.Constant(ir.IntType(64), size))
            return builder.inttoptr(builder.add(base, step), context.get_value_type(record))

        return record(world, types.int64), codegen

    return at


ls = _accessor("ls")
fn = _accessor("fn")
ac = _accessor("ac")
tr = _accessor("tr")
so = _accessor("so")
pa = _accessor("pa")
tp = _accessor("tp")
sg = _accessor("sg")
ed = _accessor("ed")
ins = _accessor("ins")
no = _accessor("no")
ca = _accessor("ca")
ev = _accessor("ev")
cg = _accessor("cg")
hp = _accessor("hp")
pend = _accessor("pend")
dirty = _accessor("dirty")
window = _accessor("window")
rng = _accessor("rng")
samples = _accessor("samples")
waits_ns = _accessor("waits_ns")
h_wait = _accessor("h_wait")
h_late = _accessor("h_late")
trail = _accessor("trail")
diary = _accessor("diary")
h_conc = _accessor("h_conc")
h_inst = _accessor("h_inst")
h_lag = _accessor("h_lag")
series = _accessor("series")
_ck = _accessor("ck")


@intrinsic
def highest_bit(typingctx, value):  # type: ignore[no-untyped-def]
    """The place of the highest bit set in an int64 above 0: one instruction, where a loop would be guessed wrong."""

    def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
        zeros = builder.ctlz(args[0], ir.Constant(ir.IntType(1), 1))
        return builder.sub(ir.Constant(ir.IntType(64), 63), zeros)

    return types.int64(types.int64), codegen


@intrinsic
def clock(typingctx, world):  # type: ignore[no-untyped-def]
    """The one clock record of the world."""
    record = from_dtype(DTYPES["clock"])

    def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
        base = _address(builder, args[0], signature.args[0].offset("ck"))
        return builder.inttoptr(base, context.get_value_type(record))

    return record(world), codegen
