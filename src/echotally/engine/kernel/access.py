"""How kernels reach the world: ``unit_at(w, 3)`` is unit 3, ``clock_of(w)`` the one clock.

Two forms give the same bytes: ``addressed`` is compiled and trusts its places, ``checked`` is plain Python and
compares each of them. How many rows an array has is ``n_events(w)``. Places are made by ``engine.build``, and pools
are grown before a step could run over (``dispatch.low``).

Why ``unit_at`` and not ``unit``: a kernel's variables then carry the plain words. Places of records are single letters:
``u`` a unit, ``s`` a source, ``g`` a trigger, ``p`` a partition or tap, ``c`` a call, ``e`` an event, ``i`` an instance, ``x`` an
edge or node; a ``link`` is a place in the cargo, a ``chain`` one of a list, ``b`` a bin.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

from echotally.engine import records as kinds
from echotally.engine.kernel.compiled import COMPILED

if COMPILED and not TYPE_CHECKING:
    from echotally.engine.kernel.addressed import accessor, clock_of, earlier, fetcher, highest_bit, length
else:
    from echotally.engine.kernel.checked import CheckedWorld, accessor, clock_of, earlier, fetcher, highest_bit, length

Record = TypeVar("Record")
if TYPE_CHECKING:
    #: What a kernel is handed as ``w``.
    World = CheckedWorld
else:
    World = Any
Accessor = Callable[[World, int], Record]

__all__ = [
    "Accessor",
    "World",
    "account_at",
    "ahead_at",
    "aside_at",
    "asked_at",
    "bin_at",
    "born_at",
    "call_at",
    "cargo_at",
    "carried_at",
    "chain_at",
    "clock_of",
    "condition_at",
    "count_bin_at",
    "crowd_at",
    "crowded_at",
    "diary_at",
    "earlier",
    "edge_at",
    "entry_at",
    "estate_level_at",
    "event_at",
    "expected_at",
    "fetch_bin",
    "fetch_call",
    "fetch_cargo",
    "fetch_event",
    "highest_bit",
    "instance_at",
    "lag_bin",
    "level_bin_at",
    "log_at",
    "marked_at",
    "moment_at",
    "n_aside",
    "n_born",
    "n_calendar",
    "n_calls",
    "n_carried",
    "n_diary",
    "n_events",
    "n_expected",
    "n_instances",
    "n_log",
    "n_moments",
    "n_nodes",
    "n_refusals",
    "n_rounds",
    "n_seen",
    "n_sources",
    "n_taps",
    "n_trail",
    "n_turns",
    "node_at",
    "oldest_at",
    "partition_at",
    "pause_at",
    "portion_at",
    "random_at",
    "refusal_at",
    "sample_at",
    "seen_at",
    "series_at",
    "source_at",
    "span_at",
    "stretch_at",
    "tap_at",
    "touched_at",
    "trail_at",
    "trigger_at",
    "turn_at",
    "unit_at",
    "window_at",
]

chain_at: Accessor[kinds.Chain] = accessor("chains")
unit_at: Accessor[kinds.Unit] = accessor("units")
account_at: Accessor[kinds.Account] = accessor("accounts")
trigger_at: Accessor[kinds.Trigger] = accessor("triggers")
source_at: Accessor[kinds.Source] = accessor("sources")
partition_at: Accessor[kinds.Partition] = accessor("partitions")
tap_at: Accessor[kinds.Tap] = accessor("taps")
stretch_at: Accessor[kinds.Stretch] = accessor("stretches")
turn_at: Accessor[kinds.Turn] = accessor("turns")
condition_at: Accessor[kinds.Condition] = accessor("conditions")
portion_at: Accessor[kinds.Portion] = accessor("portions")
edge_at: Accessor[kinds.Edge] = accessor("edges")
instance_at: Accessor[kinds.Instance] = accessor("instances")
node_at: Accessor[kinds.Node] = accessor("nodes")
call_at: Accessor[kinds.Call] = accessor("calls")
event_at: Accessor[kinds.Event] = accessor("events")
cargo_at: Accessor[kinds.Cargo] = accessor("cargo")
entry_at: Accessor[kinds.Entry] = accessor("calendar")
aside_at: Accessor[kinds.Aside] = accessor("aside")
ahead_at: Accessor[kinds.Whole] = accessor("ahead")
expected_at: Accessor[kinds.Expected] = accessor("expected")
marked_at: Accessor[kinds.Lined] = accessor("marked")
crowd_at: Accessor[kinds.Crowd] = accessor("crowds")
crowded_at: Accessor[kinds.Lined] = accessor("crowded")
window_at: Accessor[kinds.Whole] = accessor("window")
random_at: Accessor[kinds.Random] = accessor("random")
sample_at: Accessor[kinds.Real] = accessor("samples")
pause_at: Accessor[kinds.Whole] = accessor("pauses")
bin_at: Accessor[kinds.Bin] = accessor("sketches")
seen_at: Accessor[kinds.Seen] = accessor("seen")
touched_at: Accessor[kinds.Whole] = accessor("touched")
level_bin_at: Accessor[kinds.Whole] = accessor("level_bins")
estate_level_at: Accessor[kinds.Whole] = accessor("estate_levels")
count_bin_at: Accessor[kinds.Whole] = accessor("count_bins")
lag_bin: Accessor[kinds.Whole] = accessor("lag_bins")
trail_at: Accessor[kinds.Change] = accessor("trail")
diary_at: Accessor[kinds.Attempt] = accessor("diary")
carried_at: Accessor[kinds.Carried] = accessor("carried")
born_at: Accessor[kinds.Born] = accessor("born")
moment_at: Accessor[kinds.Moment] = accessor("moments")
refusal_at: Accessor[kinds.Refusal] = accessor("refusals")
asked_at: Accessor[kinds.Asked] = accessor("rounds")
span_at: Accessor[kinds.Whole] = accessor("counts")
log_at: Accessor[kinds.Whole] = accessor("log")
oldest_at: Accessor[kinds.Whole] = accessor("oldest")
series_at: Accessor[kinds.Real] = accessor("series")

#: Have what is needed soon brought near, without waiting for it.
Fetcher = Callable[[World, int], None]
fetch_bin: Fetcher = fetcher("sketches")
fetch_call: Fetcher = fetcher("calls")
fetch_cargo: Fetcher = fetcher("cargo")
fetch_event: Fetcher = fetcher("events")

Length = Callable[[World], int]
n_aside: Length = length("aside")
n_born: Length = length("born")
n_calendar: Length = length("calendar")
n_calls: Length = length("calls")
n_carried: Length = length("carried")
n_diary: Length = length("diary")
n_events: Length = length("events")
n_expected: Length = length("expected")
n_instances: Length = length("instances")
n_log: Length = length("log")
n_moments: Length = length("moments")
n_nodes: Length = length("nodes")
n_refusals: Length = length("refusals")
n_rounds: Length = length("rounds")
n_seen: Length = length("seen")
n_sources: Length = length("sources")
n_taps: Length = length("taps")
n_trail: Length = length("trail")
n_turns: Length = length("turns")
