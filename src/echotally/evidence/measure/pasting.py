"""What a measurement changes in the model: addresses and values, as TOML to paste or to write."""

from __future__ import annotations

import math

from msgspec.structs import replace

from echotally.evidence.fit.estimates import Spread
from echotally.evidence.fit.proposal import Proposal, ms_text, number_text, spread_text
from echotally.evidence.measure.keys import Keys
from echotally.model.addresses import dotted


def propose(found: Keys, function: str, memory_mb: int | None = None, keep_samples: bool = False) -> Proposal:
    """The keys of a function that were measured; ``memory_mb``: it was said how much it is given.

    ``keep_samples``: times that are no log-normal are kept in files; else their median and p95 stand for them.
    """
    files: list[tuple[str, str]] = []
    notes: list[str] = []

    def spread(key: str, times: Spread) -> str:
        if times.kind == "samples" and not keep_samples:
            notes.append(
                f"{key}: the times are no log-normal (KS distance {times.distance:.2f}); median and p95 stand for them, and "
                "--write keeps the times themselves"
            )
            times = replace(times, kind="log-normal")
        return spread_text(times, f"{function}-{key.replace('_', '-')}.csv", files)

    values = {
        "run": spread("run", found.run),
        "per_item": found.per_item and ms_text(max(0.0, found.per_item.value)),
        "per_mb": found.per_mb and ms_text(max(0.0, found.per_mb.value)),
        "cold_start": found.cold_start and spread("cold_start", found.cold_start),
        "cpu_share": found.cpu_share and number_text(round(found.cpu_share.value, 4)),
        "threads": found.threads and str(found.threads),
        "measured_vcpu": number_text(found.measured_vcpu),
        "memory": memory_mb and f'"{memory_mb} MB"',
        "memory_used": found.memory_used and f'"{math.ceil(found.memory_used.value)} MB"',
        "reply_bytes": f'"{round(found.reply_bytes.value)} B"',
        "log_bytes": found.log_bytes and f'"{round(found.log_bytes.value)} B"',
        "error_rate": found.error_rate and number_text(found.error_rate.value),
        "slots": found.slots and str(found.slots),
    }
    sets = tuple((dotted(("functions", function, key)), str(value)) for key, value in values.items() if value)
    return Proposal(sets, tuple(files), tuple(notes))
