"""The records of a simulation, a field a line: its meaning and its unit. ``engine.layout`` makes arrays of them.

Times are int64 nanoseconds since the month's start, lengths of time nanoseconds. Links between records are places in
their arrays, -1 for none. A *unit* is one function in one environment. Fields written ``int`` are int64 in the arrays, ``Small``
int32, ``float`` float64, ``Bits`` uint64; the classes are never made, they name types for the reader and the type checker.
"""

from echotally.engine.records.clock import Clock
from echotally.engine.records.diary import Asked, Attempt, Born, Carried, Change, Moment, Refusal
from echotally.engine.records.moving import Aside, Call, Cargo, Entry, Event, Expected, Instance, Lined, Node
from echotally.engine.records.numbers import Bin, Bits, Random, Real, Seen, Small, Whole
from echotally.engine.records.standing import (
    Chain,
    Condition,
    Edge,
    Partition,
    Portion,
    Source,
    Stretch,
    Tap,
    Trigger,
    Turn,
)
from echotally.engine.records.units import Account, Crowd, Unit

__all__ = [
    "Account",
    "Aside",
    "Asked",
    "Attempt",
    "Bin",
    "Bits",
    "Born",
    "Call",
    "Cargo",
    "Carried",
    "Chain",
    "Change",
    "Clock",
    "Condition",
    "Crowd",
    "Edge",
    "Entry",
    "Event",
    "Expected",
    "Instance",
    "Lined",
    "Moment",
    "Node",
    "Partition",
    "Portion",
    "Random",
    "Real",
    "Refusal",
    "Seen",
    "Small",
    "Source",
    "Stretch",
    "Tap",
    "Trigger",
    "Turn",
    "Unit",
    "Whole",
]
