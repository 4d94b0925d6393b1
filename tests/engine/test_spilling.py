"""Pools of records in a file: the same month to the byte, nothing left behind, and memory where there is no disk."""

from __future__ import annotations

import gc
import json
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from echotally.engine import compiling, spilling
from echotally.engine.play import begun, simulate
from echotally.engine.pools import with_room
from echotally.engine.spilling import is_spilled, lengthened
from echotally.projection.loaded import load, placement_on

STARVED = {
    "a queue": '[queues.s]\nretention = "3 d"\nbacklog = 3_000\n[demand.d]\ninto = "queues.s"\nrate = "900 /h"\n',
    "a stream": '[streams.s]\npartitions = 2\nretention = "2 d"\n[demand.d]\ninto = "streams.s"\nrate = "2000 /h"\n',
    "a topic": '[topics.s]\n[demand.d]\ninto = "topics.s"\nlumps = [{ at = "2027-03-09T04:00", count = 9_000 }]\n',
}


def starved(write, source: str) -> Path:
    """One call at a time of five seconds: more comes than that, and waits."""
    kind = next(line for line in STARVED[source].splitlines()).strip("[]")
    return write(
        f'[functions.f]\nmemory = "512 MB"\nrun = "5 s"\ncpu_share = 0\ninstance_limit = 1\nerror_rate = 0.05\n{STARVED[source]}'
        f'[[triggers]]\nfrom = "{kind}"\nto = "f"\n'
    )


def played(path: Path):
    loaded = load(path)
    return simulate(
        loaded.model, loaded.month.arrivals, placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"]), 7
    )


@pytest.mark.parametrize("source", STARVED)
@pytest.mark.parametrize("disk", ["room", "none", "full soon"])
def test_a_month_whose_records_stand_in_a_file_is_the_month(write, monkeypatch, source, disk):
    path = starved(write, source)
    in_memory = played(path)
    spilled: list[bool] = []

    def grown(array, n):
        found = lengthened(array, n) if disk == "room" or (disk == "full soon" and len(spilled) < 3) else None
        spilled.append(found is not None)
        return found

    monkeypatch.setattr(spilling, "LARGE", 1 << 14)
    monkeypatch.setattr(spilling, "_KEPT", -(1 << 40))
    monkeypatch.setattr(spilling, "lengthened", grown)
    assert repr(played(path)) == repr(in_memory)
    assert set(spilled) == {"room": {True}, "none": {False}, "full soon": {True, False}}[disk]


def test_a_pool_grows_in_its_file_and_the_file_goes_with_it(monkeypatch, tmp_path):
    monkeypatch.setenv("ECHOTALLY_CACHE", str(tmp_path / "kept"))
    monkeypatch.setattr(spilling, "_KEPT", -(1 << 40))
    first = np.arange(1_000, dtype=np.int64)
    second = lengthened(first, 200_000)
    third = lengthened(second, 600_000)
    assert is_spilled(second) and is_spilled(third[5:]) and not is_spilled(first)
    third[-1] = 7
    # Both look at the one file, from which the pages have gone by now.
    second[10] = -1
    time.sleep(5 * spilling._LOOK_S)
    assert third[:12].tolist() == [*range(10), -1, 11] and third[-1] == 7 and not third[1_000:-1].any()
    assert [*tmp_path.rglob("*")] == [tmp_path / "kept"] and compiling.cache_folder().parent == tmp_path / "kept"
    del second, third
    gc.collect()
    # The thread that lets pages go holds them for a moment, and ends when there are none.
    for _ in range(100):
        time.sleep(spilling._LOOK_S)
    assert not spilling._SPILLED.mappings and spilling._SPILLED.trimmer is None


def test_where_the_disk_is_full_records_stay_in_memory_as_far_as_there_is_any(write, monkeypatch):
    def full(*_):
        raise OSError(28, "No space left on device")

    loaded = load(starved(write, "a queue"))
    world = begun(
        loaded.model, loaded.month.arrivals, placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"]), 1
    ).world
    monkeypatch.setattr(spilling, "LARGE", 1 << 14)
    monkeypatch.setattr(spilling._File, "reserve", full)
    world.clock[0]["events_left"], before = 0, len(world.events)
    grown = with_room(world)
    assert len(grown.events) > before and not is_spilled(grown.events)
    monkeypatch.setattr(spilling, "room_for", lambda _: False)
    grown.clock[0]["events_left"] = 0
    with pytest.raises(MemoryError):
        with_room(grown)


@pytest.mark.skipif(not Path("/proc/self/status").exists(), reason="tells how much memory was used")
def test_millions_of_messages_that_wait_take_no_memory_of_their_own(write):
    """Each has a record of a hundred bytes; the program reads its own peak when it is done."""
    path = write(
        '[functions.f]\nmemory = "512 MB"\nrun = "100 s"\ntimeout = "5 min"\ncpu_share = 0\ninstance_limit = 1\n[queues.q]\n'
        'retention = "14 d"\nbacklog = {count}\n[[triggers]]\nfrom = "queues.q"\nto = "f"\n'
    )
    text, peaks = path.read_text(), {}
    for count in (1_000, 6_000_000):
        path.write_text(text.replace("{count}", f"{count}"))
        program = (
            "import sys, json; from pathlib import Path; from echotally import project\n"
            f"found = project(Path({str(path)!r}), exact=True).plans[0]\n"
            "lines = Path('/proc/self/status').read_text().splitlines()\n"
            "peak = int(next(line for line in lines if line.startswith('VmHWM')).split()[1])\n"
            "print(json.dumps([peak, found.totals.events['in']]))"
        )
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
        peaks[count], came = json.loads(done.stdout)
        assert came == count
    # Six hundred MB of records; how soon pages go depends on how busy the machine is.
    assert peaks[6_000_000] - peaks[1_000] < 250_000
