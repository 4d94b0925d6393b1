"""The compiled form of ``access``: ``w`` is one small record of addresses, and a record is found by one addition.

Why not pass the arrays themselves: a dozen record arrays by value are two hundred machine words a call, which costs
more than the simulation. Indices are trusted here; ``checked`` is the form that compares every one of them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import from_dtype, types
from numba.extending import intrinsic

from echotally.engine.layout import ADDRESSES, DTYPES, HOLDS, Clock, World


def door(world: Any) -> np.ndarray[Any, np.dtype[Any]]:
    """What an entry kernel is handed: one record of addresses and lengths. ``world`` must be kept alive while it is used."""
    found = np.zeros(1, ADDRESSES)
    for name in World._fields:
        array = getattr(world, name)
        found[0][name], found[0][f"n_{name}"] = array.ctypes.data, array.shape[0]
    return found


def _address(builder: Any, world: Any, offset: int) -> Any:
    """The address stored ``offset`` bytes into the world record; it never changes while a kernel runs."""
    start = builder.bitcast(world, ir.IntType(8).as_pointer())
    place = builder.gep(start, [ir.Constant(ir.IntType(64), offset)])
    base = builder.load(builder.bitcast(place, ir.IntType(64).as_pointer()))
    base.set_metadata("invariant.load", builder.module.add_metadata([]))
    return base


def accessor(name: str) -> Any:
    """``at(w, index)``: a record of the array ``name`` of the world."""
    dtype = DTYPES[HOLDS[name]]
    record = from_dtype(dtype)
    size = dtype.itemsize

    @intrinsic
    def at(typingctx, world, index):
        def codegen(context, builder, signature, args):
            base = _address(builder, args[0], signature.args[0].offset(name))
            step = builder.mul(args[1], ir.Constant(ir.IntType(64), size))
            return builder.inttoptr(builder.add(base, step), context.get_value_type(record))

        return record(world, types.int64), codegen

    return at


@intrinsic
def highest_bit(typingctx, value):
    """The place of the highest bit set in an int64 above 0: one instruction, where a loop would be guessed wrong."""

    def codegen(context, builder, signature, args):
        zeros = builder.ctlz(args[0], ir.Constant(ir.IntType(1), 1))
        return builder.sub(ir.Constant(ir.IntType(64), 63), zeros)

    return types.int64(types.int64), codegen


@intrinsic
def clock_of(typingctx, world):
    """The one clock record of the world."""
    record = from_dtype(DTYPES[Clock])

    def codegen(context, builder, signature, args):
        base = _address(builder, args[0], signature.args[0].offset("clock"))
        return builder.inttoptr(base, context.get_value_type(record))

    return record(world), codegen
