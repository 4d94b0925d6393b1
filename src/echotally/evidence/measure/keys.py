"""From rows to the model's keys: run, per_item, per_mb, cold_start, cpu_share, threads, memory, replies, each with its interval.

Sources: ordinary least squares for run time against events and MB of a batch (Gauss, Student's t for the intervals); the spread of
runs as in ``fit`` (log-normal or constant). To the interval that chance gives, what starting a program or
handing over a line takes on this machine is added, which a run cannot be told from.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.evidence.fit.estimates import Estimate, Spread, log_normal
from echotally.evidence.fit.estimates import share as wilson
from echotally.evidence.measure.rows import Level, Run, Tried

#: What timers of the system are off by, s, and clocks of CPU time, as a share of a vCPU.
_TIMER_S, _CPU_CLOCK = 0.0004, 0.01
#: ... and what adds up over items, as a share.
_TIMER_SHARE = 0.005
#: Sizes that differ by less than this share tell nothing about what a MB adds.
_TELLS = 0.2
#: A level whose latency differs by less than this share from what is expected is taken to be as expected.
_AS_EXPECTED = 0.15


class Keys(Struct, frozen=True):
    """What was found, as estimates: times in ms, sizes in bytes, memory in MB (of 2^20 bytes), None where the rows do not tell.

    ``run`` is a warm run without what items and MB add. ``slots`` is how many at once it was seen to serve, ``stretch`` how levels
    compare with what the model would say.
    """

    run: Spread
    per_item: Estimate | None
    per_mb: Estimate | None
    cold_start: Spread | None
    cpu_share: Estimate | None
    threads: int | None
    memory_used: Estimate | None
    reply_bytes: Estimate
    log_bytes: Estimate | None
    error_rate: Estimate | None
    measured_vcpu: float
    factor: float
    slots: int | None
    stretch: tuple[Stretch, ...]
    notes: tuple[str, ...]


class Stretch(Struct, frozen=True):
    """One level beside what is expected of it: the median time in the program, s, measured, stretched as rule 3.2 says, one after the other."""

    level: Level
    stretched_s: float
    queued_s: float
    is_like: Literal["stretched", "one after the other", "neither"]


def keys_of(tried: Tried, factor: float = 1.0) -> Keys:
    """The model's keys of a program that was tried; ``factor``: the processor it will run on is so many times as fast as this one."""
    warm, notes = tried.warm(), list[str]()
    base, per_item, per_mb = _parts(warm)
    # Starting a program that does something, or asking one, takes up to twice what it takes with an empty one.
    overhead = {"fresh": 2 * tried.machine.start_s, "serve": tried.machine.answer_s, "url": 2 * tried.machine.answer_s}[
        tried.how
    ]
    # The spread is that of the smallest batches, in which what items and MB add is the least part.
    small = _smallest(warm)
    took = np.array([run.took_s for run in small]) * 1e3
    events = np.array([float(run.events) for run in small])
    mb = np.array([run.payload_bytes / 1e6 for run in small])
    rest = took - (per_item.value * events if per_item else 0.0) - (per_mb.value * mb if per_mb else 0.0)
    run = _spread(rest, base, overhead * 1e3)
    threads, cpu_share = _cpu(tried, warm, overhead)
    if not _believed(tried):
        seen = f"{tried.most_cpus:.1f} vCPUs at once were read where there are {tried.machine.vcpu:g}"
        notes.append(f"{seen}: the machine was too busy to tell, and threads rest on the mean alone")
    if threads is not None and threads >= tried.machine.vcpu > 1:
        notes.append(f"it kept all {tried.machine.vcpu:g} vCPUs of this machine busy: it may be able to use more")
    notes += _several_shares(warm, threads)
    speed = _speed(cpu_share, factor)
    run, per_item, per_mb = _scaled_spread(run, speed), _scaled(per_item, speed), _scaled(per_mb, speed)
    cold = _cold(tried, run, speed)
    stretch = tuple(_stretches(tried, small, overhead))
    sizes = np.array([float(each.reply_bytes) for each in warm])
    return Keys(
        run=run,
        per_item=per_item,
        per_mb=per_mb,
        cold_start=cold,
        cpu_share=None if cpu_share is None else _cpu_there(cpu_share, factor),
        threads=threads,
        memory_used=_memory(tried),
        # A line's end may belong to the answer or only end it.
        reply_bytes=_mean(sizes, less=1.0 if tried.how == "fresh" else 0.0, more=1.0 if tried.how == "serve" else 0.0),
        log_bytes=None if tried.how == "url" else _mean(np.array([each.log_bytes for each in warm])),
        error_rate=_errors(tried),
        # As the model counts it: what the program's threads could use of what there is.
        measured_vcpu=min(float(threads or 1), tried.machine.vcpu),
        factor=factor,
        slots=_slots(stretch),
        stretch=stretch,
        notes=tuple(notes),
    )


def _parts(warm: Sequence[Run]) -> tuple[Estimate, Estimate | None, Estimate | None]:
    """Mean run time, ms, as a base, a part for each event and one for each MB, where the rows vary them."""
    took = np.array([run.took_s for run in warm]) * 1e3
    events = np.array([float(run.events) for run in warm])
    mb = np.array([run.payload_bytes / 1e6 for run in warm])
    columns, names = [np.ones(len(warm))], ["base"]
    if len(set(events)) > 1:
        columns.append(events)
        names.append("item")
    if float(np.ptp(mb)) > _TELLS * float(mb.mean()) > 0 and not _goes_with(mb, events):
        columns.append(mb)
        names.append("mb")
    found = dict(zip(names, _least_squares(np.column_stack(columns), took, _weights(events, took)), strict=True))
    return found["base"], _off_by_timers(found.get("item")), _off_by_timers(found.get("mb"))


def _off_by_timers(found: Estimate | None) -> Estimate | None:
    return None if found is None else _widened(found, _TIMER_SHARE * abs(found.value), _TIMER_SHARE * abs(found.value))


def _goes_with(mb: NDArray[np.float64], events: NDArray[np.float64]) -> bool:
    """Whether sizes follow from the number of events, so that one cannot be told from the other."""
    if len(set(events)) < 2:
        return False
    return abs(float(np.corrcoef(mb, events)[0, 1])) > 0.98


def _smallest(warm: Sequence[Run]) -> list[Run]:
    """Runs of the smallest batches."""
    least = min(run.events for run in warm)
    return [run for run in warm if run.events == least]


def _weights(events: NDArray[np.float64], took: NDArray[np.float64]) -> NDArray[np.float64]:
    """One over the standard deviation of the times of each row's batch size: larger batches scatter more."""
    found = np.ones(len(took))
    for size in set(events.tolist()):
        own = events == size
        sd = float(np.std(took[own], ddof=1)) if own.sum() > 2 else 0.0
        found[own] = 1 / max(sd, 1e-3 * float(np.mean(took[own])), 1e-6)
    return found


def _least_squares(
    rows: NDArray[np.float64], took: NDArray[np.float64], weights: NDArray[np.float64]
) -> list[Estimate]:
    """Coefficients of weighted least squares with their 95 % intervals (Student's t); of one row only the value."""
    from scipy.special import stdtrit

    rows, took = rows * weights[:, None], took * weights
    values, *_ = np.linalg.lstsq(rows, took, rcond=None)
    free = len(took) - rows.shape[1]
    if free < 1:
        return [Estimate(float(value), -math.inf, math.inf) for value in values]
    variance = float(np.sum((took - rows @ values) ** 2)) / free
    halves = stdtrit(free, 0.975) * np.sqrt(np.diag(np.linalg.pinv(rows.T @ rows)) * variance)
    return [Estimate(float(v), float(v - h), float(v + h)) for v, h in zip(values, halves, strict=True)]


def _spread(times_ms: NDArray[np.float64], base: Estimate, overhead_ms: float) -> Spread:
    """The spread of base runs; its interval holds what starting or asking takes, and how far parts may be off together."""
    positive = times_ms[times_ms > 0]
    if not len(positive):
        positive = np.array([1e-3])
    logs = np.log(positive)
    sd = float(np.std(logs, ddof=1)) if len(positive) > 1 else 0.0
    found = log_normal(len(positive), float(logs.mean()), sd, positive)
    off = max(0.0, (base.high - base.low) / 2) if math.isfinite(base.high) else 0.0
    return replace(
        found,
        median=_widened(found.median, off + overhead_ms + _TIMER_S * 1e3, off + _TIMER_S * 1e3),
        p95=_widened(found.p95, off + overhead_ms + _TIMER_S * 1e3, off + _TIMER_S * 1e3),
    )


def _widened(found: Estimate, less: float, more: float) -> Estimate:
    return Estimate(found.value, max(0.0, found.low - less), found.high + more)


def _believed(tried: Tried) -> bool:
    return (tried.most_cpus or 0.0) <= 2 * max(1.0, tried.machine.vcpu)


def _cpu(tried: Tried, warm: Sequence[Run], overhead_s: float) -> tuple[int | None, Estimate | None]:
    """How many vCPUs its work uses at once, and which share of a run is such work."""
    used = [run.cpu_s for run in warm]
    cpu = np.array([each for each in used if each is not None])
    if len(cpu) < len(warm) or not len(warm):
        return None, None
    took = np.array([run.took_s for run in warm])
    mean = float(cpu.sum() / took.sum())
    vcpu = max(1.0, tried.machine.vcpu)
    # No program keeps more busy than there are. A quota may be used up twice in one window, at the end of one period and at the
    # beginning of the next; beyond that a clock was read late, and the reading says nothing.
    seen = tried.most_cpus if _believed(tried) else None
    at_once = min(max(mean, seen or 0.0), math.ceil(vcpu))
    # A program of one thread may show a little more than one: what the system does for it beside it.
    threads = max(1, round(at_once)) if at_once > 1.25 else 1
    shares = cpu / took / threads
    half = 1.96 * float(np.std(shares, ddof=1)) / math.sqrt(len(shares)) if len(shares) > 1 else 1.0
    value = float(cpu.sum() / took.sum()) / threads
    off = _CPU_CLOCK + overhead_s / float(took.mean())
    return threads, Estimate(min(1.0, value), max(0.0, value - half - off), min(1.0, value + half + off))


def _speed(cpu_share: Estimate | None, factor: float) -> float:
    """How much longer a run is on a processor ``factor`` times as fast: its waiting stays what it is."""
    share = cpu_share.value if cpu_share else 1.0
    return (1 - share) + share / factor


def _cpu_there(found: Estimate, factor: float) -> Estimate:
    def there(share: float) -> float:
        return share / factor / ((1 - share) + share / factor)

    return Estimate(there(found.value), there(found.low), there(found.high))


def _scaled(found: Estimate | None, by: float) -> Estimate | None:
    return None if found is None else Estimate(found.value * by, found.low * by, found.high * by)


def _scaled_spread(found: Spread, by: float) -> Spread:
    median, p95 = _scaled(found.median, by), _scaled(found.p95, by)
    if median is None or p95 is None or by == 1:
        return found
    return replace(found, median=median, p95=p95, samples=tuple(each * by for each in found.samples))


def _cold(tried: Tried, run: Spread, speed: float) -> Spread | None:
    """Start to first answer, less a warm run, which the model adds to it."""
    starts = np.array([each.took_s for each in tried.cold()]) * 1e3 * speed - run.median.value
    if not len(starts):
        return None
    middle = float(np.mean(starts))
    half = 1.96 * float(np.std(starts, ddof=1)) / math.sqrt(len(starts)) if len(starts) > 1 else 0.0
    base = Estimate(middle, middle - half, middle + half)
    return _spread(starts, base, 2 * tried.machine.start_s * 1e3)


def _memory(tried: Tried) -> Estimate | None:
    """The most memory of any run, MB; from the least to the most."""
    seen = [run.memory_bytes / 2**20 for run in tried.runs if run.memory_bytes and run.outcome == "ok"]
    # What the program itself asked for is less than that by what its interpreter takes; pages of files may or may not be counted.
    own = tried.machine.start_bytes / 2**20 if tried.how != "url" else 0.0
    return Estimate(max(seen), max(0.0, min(seen) * 0.98 - own), max(seen) * 1.02) if seen else None


def _mean(values: NDArray[np.float64], less: float = 0.0, more: float = 0.0) -> Estimate:
    mean = float(values.mean())
    half = 1.96 * float(np.std(values, ddof=1)) / math.sqrt(len(values)) if len(values) > 1 else 0.0
    return Estimate(mean, max(0.0, mean - half - less), mean + half + more)


def _errors(tried: Tried) -> Estimate | None:
    """The share of runs that failed, where one did."""
    failed = sum(1 for run in tried.runs if run.outcome != "ok")
    return wilson(failed, len(tried.runs)) if failed else None


def _several_shares(warm: Sequence[Run], threads: int | None) -> list[str]:
    """That larger batches are other work than small ones, where they are: the model knows one share."""
    found = {}
    for size in (min(run.events for run in warm), max(run.events for run in warm)):
        own = [run for run in warm if run.events == size and run.cpu_s is not None]
        if not own or not threads:
            return []
        found[size] = sum(run.cpu_s or 0.0 for run in own) / sum(run.took_s for run in own) / threads
    (few, small), (many, large) = min(found.items()), max(found.items())
    if abs(large - small) < 0.1:
        return []
    return [
        f"CPU work is {min(1.0, small):.0%} of a run of {few:,} and {min(1.0, large):.0%} of one of {many:,}: the model knows one "
        "cpu_share, that of all runs together"
    ]


def _stretches(tried: Tried, small: Sequence[Run], overhead_s: float) -> list[Stretch]:
    """Each level beside a run stretched by rule 3.2 and runs one after the other; levels ask with the smallest batches."""
    # Medians, so that one answer that somebody else's work held up decides nothing.
    alone = next((level.p50_s for level in tried.levels if level.at_once == 1), None)
    single = alone or float(np.median([run.took_s for run in small]))
    threads, share = _cpu(tried, small, overhead_s)
    busy = (share.value if share else 0.0) * (threads or 1)
    found = []
    for level in tried.levels:
        stretched = single * max(1.0, level.at_once * busy / tried.machine.vcpu)
        queued = single * level.at_once
        found.append(Stretch(level, stretched, queued, _is_like(level.p50_s, stretched, queued)))
    return found


def _is_like(
    measured: float, stretched: float, queued: float
) -> Literal["stretched", "one after the other", "neither"]:
    off = {"stretched": abs(measured / stretched - 1), "one after the other": abs(measured / queued - 1)}
    # Where both say the same, nothing is told apart, and the model's own rule will do.
    best = min(off, key=lambda name: (off[name], name != "stretched"))
    if off["stretched"] <= _AS_EXPECTED:
        return "stretched"
    return best if off[best] <= _AS_EXPECTED else "neither"  # type: ignore[return-value]


def _slots(stretch: Sequence[Stretch]) -> int | None:
    """How many it serves at once: as many as it was asked and stretched for; one where they were served one after the other."""
    several = [each for each in stretch if each.level.at_once > 1]
    if not several:
        return None
    served = [each.level.at_once for each in several if each.is_like == "stretched"]
    if served:
        return max(served)
    return 1 if all(each.is_like == "one after the other" for each in several) else None
