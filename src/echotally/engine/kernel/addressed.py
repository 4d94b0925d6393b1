"""The compiled form of ``access``: ``w`` is the address of one small record of addresses, and a record is found by one addition.

Why not pass the arrays themselves: a dozen record arrays by value are two hundred machine words a call, which costs
more than the simulation. Indices are trusted here; ``checked`` is the form that compares every one of them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import types
from numba.core.typing.templates import AttributeTemplate
from numba.extending import (
    infer_getattr,
    intrinsic,
    lower_getattr_generic,
    lower_setattr_generic,
    models,
    register_model,
)

from echotally.engine.layout import ADDRESSES, DTYPES, HOLDS
from echotally.engine.records import Clock

#: Bytes that a processor brings near at once.
_LINE = 64
_OFFSETS: dict[str, int] = {name: place[1] for name, place in (ADDRESSES.fields or {}).items()}


def _number(builder: Any, world: Any, name: str) -> Any:
    """The number in field ``name`` of the record of addresses; it never changes while a kernel runs."""
    place = builder.add(world, ir.Constant(ir.IntType(64), _OFFSETS[name]))
    base = builder.load(builder.inttoptr(place, ir.IntType(64).as_pointer()))
    base.set_metadata("invariant.load", builder.module.add_metadata([]))
    return base


#: What kernels see of a field, by what its array holds: narrow numbers are whole ones like all others.
_SEEN_AS: dict[Any, Any] = {
    np.dtype(np.int64): types.int64,
    np.dtype(np.int32): types.int64,
    np.dtype(np.uint64): types.uint64,
    np.dtype(np.float64): types.float64,
}


class Place(types.Type):
    """The type of the address of a record: its fields are read and written in memory."""

    def __init__(self, kind: type) -> None:
        super().__init__(f"Place({kind.__name__})")
        self.fields = dict(DTYPES[kind].fields or {})

    def seen_as(self, field: str) -> Any:
        """The type of a field in kernels; None where there is no such field."""
        return _SEEN_AS[self.fields[field][0]] if field in self.fields else None

    def is_narrow(self, field: str) -> bool:
        """Whether a field takes four bytes."""
        return bool(self.fields[field][0].itemsize == 4)


@register_model(Place)
class _PlaceModel(models.PrimitiveModel):
    def __init__(self, manager: Any, place: Any) -> None:
        super().__init__(manager, place, ir.IntType(8).as_pointer())


@infer_getattr
class _Fields(AttributeTemplate):
    key = Place

    # There it is said to give what cannot be.
    def generic_resolve(self, place: Any, field: str) -> Any:  # type: ignore[override]
        return place.seen_as(field)


_NARROW = ir.IntType(32)


def _field(context: Any, builder: Any, place: Place, address: Any, field: str) -> Any:
    """A pointer to a field of the record at an address."""
    at = builder.gep(address, [ir.Constant(ir.IntType(64), place.fields[field][1])], inbounds=True)
    number = _NARROW if place.is_narrow(field) else context.get_value_type(place.seen_as(field))
    return builder.bitcast(at, number.as_pointer())


@lower_getattr_generic(Place)
def _read(context, builder, place, address, field):
    number = builder.load(_field(context, builder, place, address, field))
    return builder.sext(number, ir.IntType(64)) if place.is_narrow(field) else number


@lower_setattr_generic(Place)
def _written(context, builder, signature, values, field):
    place, (address, number) = signature.args[0], values
    if place.is_narrow(field):
        number = builder.trunc(number, _NARROW)
    builder.store(number, _field(context, builder, place, address, field))


def accessor(name: str) -> Any:
    """``at(w, index)``: a record of the array ``name`` of the world."""
    record = Place(HOLDS[name])
    size = DTYPES[HOLDS[name]].itemsize

    @intrinsic
    def at(typingctx, world, index):
        def codegen(context, builder, signature, args):
            base = _number(builder, args[0], name)
            step = builder.mul(args[1], ir.Constant(ir.IntType(64), size))
            return builder.inttoptr(builder.add(base, step), context.get_value_type(record))

        return record(types.int64, types.int64), codegen

    return at


def fetcher(name: str) -> Any:
    """``fetch(w, index)``: have a record brought near, without waiting for it; the answer does not depend on it."""
    size = DTYPES[HOLDS[name]].itemsize

    @intrinsic
    def fetch(typingctx, world, index):
        def codegen(context, builder, signature, args):
            line = ir.IntType(8).as_pointer()
            flags = [ir.IntType(32)] * 3
            prefetch = builder.module.declare_intrinsic(
                "llvm.prefetch", (line,), ir.FunctionType(ir.VoidType(), [line, *flags])
            )
            base = _number(builder, args[0], name)
            first = builder.add(base, builder.mul(args[1], ir.Constant(ir.IntType(64), size)))
            for place in range(0, size, _LINE):
                at = builder.inttoptr(builder.add(first, ir.Constant(ir.IntType(64), place)), line)
                # To be written, kept in all levels, data.
                builder.call(prefetch, [at, *(ir.Constant(ir.IntType(32), n) for n in (1, 3, 1))])
            return context.get_dummy_value()

        return types.none(types.int64, types.int64), codegen

    return fetch


def length(name: str) -> Any:
    """``n(w)``: how many rows the array ``name`` of the world has."""

    @intrinsic
    def n(typingctx, world):
        def codegen(context, builder, signature, args):
            return _number(builder, args[0], f"n_{name}")

        return types.int64(types.int64), codegen

    return n


@intrinsic
def highest_bit(typingctx, value):
    """The place of the highest bit set in an int64 above 0: one instruction, where a loop would be guessed wrong."""

    def codegen(context, builder, signature, args):
        zeros = builder.ctlz(args[0], ir.Constant(ir.IntType(1), 1))
        return builder.sub(ir.Constant(ir.IntType(64), 63), zeros)

    return types.int64(types.int64), codegen


@intrinsic
def earlier(typingctx, at, key, other_at, other_key):
    """-1 where (at, key) comes before the other pair, else 0; keys are no less than 0.

    The sign of a difference of 128 bits: a comparison would be made a branch, and which of two entries comes first is a coin's toss.
    """

    def codegen(context, builder, signature, args):
        long = ir.IntType(128)

        def joined(high, low):
            shifted = builder.shl(builder.sext(high, long), ir.Constant(long, 64))
            return builder.or_(shifted, builder.zext(low, long))

        difference = builder.sub(joined(*args[:2]), joined(*args[2:]))
        return builder.trunc(builder.ashr(difference, ir.Constant(long, 127)), ir.IntType(64))

    return types.int64(*(types.int64,) * 4), codegen


@intrinsic
def clock_of(typingctx, world):
    """The one clock record of the world."""
    record = Place(Clock)

    def codegen(context, builder, signature, args):
        base = _number(builder, args[0], "clock")
        return builder.inttoptr(base, context.get_value_type(record))

    return record(types.int64), codegen
