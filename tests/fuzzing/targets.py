"""What is done with a case: a file made and read, or an estate made and played. Each ends, or is refused with a reason.

A reader's case is made of cells that are what the reader wants, some of them extreme, and now and then a slip: a cell of
another kind, a line doubled or cut.
"""

from __future__ import annotations

import itertools
import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import cache
from itertools import islice
from pathlib import Path
from random import Random
from zoneinfo import ZoneInfo

from echotally.demand.clock import month_clock
from echotally.demand.cron import BadSchedule, firings_after, parse_cron
from echotally.demand.schedules import month_firings_ns
from echotally.demand.traces import BadTrace, read_trace
from echotally.engine.sampling import expected_events
from echotally.errors import BadInput, Refused
from echotally.evidence.bill.bill_file import read_bill
from echotally.evidence.bill.bill_keys import BillWays
from echotally.evidence.fit.fit import fit
from echotally.evidence.fit.trials import read_trials
from echotally.evidence.telemetry.reading import trace_of_files
from echotally.model.estate import Schedule
from echotally.model.loading import load_model
from echotally.model.spread import parse_spread
from echotally.model.units import duration_ns
from echotally.projection.answer import Projection
from echotally.projection.loaded import load, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import project_loaded
from echotally.rates.card_loading import load_card
from echotally.studies.compare import compare
from tests.fuzzing.making import TEXTS, Maker, files_of
from tests.fuzzing.toml_lines import toml

Case = Callable[[int, Path], object]
#: Refusals: what the analyst gave cannot be used, and was told so.
REFUSALS = (BadInput, BadSchedule, BadTrace)
NUMBERS = (
    ["1", "12.5", "250", "0"],
    ["-1", "1e308", "nan", "inf", "9" * 40, "0.000000001", "", "1,5", "١٢", "0x10", "1e-320"],
)
TIMES = (
    ["2027-03-01T00:00:{:02}", "2027-03-0{}T10:00:00Z"],
    ["1e18", "0001-01-01", "9999-12-31T23:59:59.999999999", "2027-02-30T25:61", "2027-03-28T01:30+14:00", ""],
)


#: Counts of a trace: whole numbers, and whatever else a number may be.
COUNTS = (["0", "1", "3", "250", "90000"], [*NUMBERS[0], *NUMBERS[1]])


class Cells:
    """Cells of a made-up file."""

    def __init__(self, seed: int) -> None:
        self.rng = Random(seed)
        self.wild = self.rng.choice([0.0, 0.02, 0.2])

    def of(self, pool: tuple[list[str], list[str]]) -> str:
        return self.rng.choice(pool[self.rng.random() < self.wild])

    def time(self, n: int) -> str:
        return self.of(TIMES).format(n % 9 + 1)

    def text(self) -> str:
        return '"' + self.of(TEXTS).replace('"', '""') + '"'

    def lines(self, head: str, rows: list[str]) -> str:
        """A file of lines, some doubled or cut."""
        found = [head]
        for row in rows:
            slip = self.rng.random()
            found += [row, row] if slip < self.wild / 4 else [row[: len(row) // 2]] if slip < self.wild / 2 else [row]
        end = self.rng.choice(["\n", "\r\n"]) if self.rng.random() < self.wild else "\n"
        return end.join(found) + end


def _edited(text: str, rng: Random) -> str:
    """A text with one place cut, doubled or swapped."""
    at, length = rng.randrange(len(text) + 1), rng.choice([1, 3, 20])
    return (
        text[:at]
        + rng.choice(["", text[at : at + length] * 2, '"', "=", "[", "\x00", "9" * 50, "nan", "é"])
        + text[at + length :]
    )


def model(seed: int, folder: Path) -> object:
    text = files_of(seed)["model.toml"]
    (folder / "model.toml").write_text(_edited(text, Random(seed)) if seed % 2 else text, encoding="utf-8")
    return load_model(folder / "model.toml")


def card(seed: int, folder: Path) -> object:
    text = toml(Maker(seed).card())
    (folder / "card.toml").write_text(_edited(text, Random(seed)) if seed % 2 else text, encoding="utf-8")
    return load_card(folder / "card.toml")


#: What may stand in each field of an expression, least and most, and signs of the day fields alone.
_FIELDS = ((0, 59), (0, 23), (1, 31), (1, 12), (0, 7))
_DAY_SIGNS = {
    2: ["?", "L", "LW", "15W", "1W", "L-3"],
    3: ["JAN", "FEB-NOV"],
    4: ["?", "MON", "TUE-FRI", "5L", "2#5", "SUN"],
}


def _cron_field(rng: Random, place: int) -> str:
    low, high = _FIELDS[place]
    one, other = sorted((rng.randint(low, high), rng.randint(low, high)))
    forms = [
        "*",
        "*",
        f"*/{rng.randint(1, high)}",
        f"{one}",
        f"{one}-{other}",
        f"{one},{other}",
        f"{one}-{other}/{rng.randint(1, 9)}",
    ]
    return rng.choice(forms + _DAY_SIGNS.get(place, []))


def cron(seed: int, folder: Path) -> object:
    rng = Random(seed)
    parts = [_cron_field(rng, place) for place in range(5)]
    seconds = rng.random() < 0.1
    if seconds or rng.random() < 0.1:
        parts = (
            [str(rng.randint(0, 59)), *parts] if seconds else [*parts, rng.choice(["2027", "2024-2040", "1999", "*"])]
        )
    if rng.random() < 0.1:
        parts[rng.randrange(len(parts))] = rng.choice(["60", "-1", "", "a", "5-1", "*/0", "1" * 30, "é"])
    found = parse_cron(" ".join(parts), seconds)
    after = datetime(rng.choice([1900, 2027, 2100, 9998]), rng.randint(1, 12), 28, tzinfo=UTC)
    zone = ZoneInfo(rng.choice(["UTC", "Europe/Dublin", "Australia/Lord_Howe", "Africa/Casablanca"]))
    return list(islice(firings_after(found, zone, after), 3))


def recurrence(seed: int, folder: Path) -> object:
    rng = Random(seed)
    parts = [f"FREQ={rng.choice(['YEARLY', 'MONTHLY', 'WEEKLY', 'DAILY', 'HOURLY', 'MINUTELY', 'FORTNIGHTLY'])}"]
    parts += rng.sample(["INTERVAL=2", "INTERVAL=0", "INTERVAL=1000", "COUNT=3", "BYDAY=MO", "BYDAY=-1FR", "BYMONTHDAY=31", "BYMONTHDAY=-1", "BYHOUR=1", "BYHOUR=25", "BYMINUTE=30",
                         "UNTIL=20270301T000000Z", "BYSETPOS=-1", "BYMONTH=2", "BYYEARDAY=366", "BYWEEKNO=53", "WKST=SU", "BYSECOND=59"], rng.randint(0, 4))  # fmt: skip
    zone = rng.choice(["UTC", "Europe/Dublin", "Pacific/Apia"])
    schedule = Schedule.model_construct(
        cron=None, every=None, rrule=";".join(parts), timezone=zone, from_=None, seconds=False, items=1, overlap="allow"
    )
    return month_firings_ns(schedule, month_clock(rng.choice(["2027-03", "2028-02", "1970-01"]), zone), zone)


def samples(seed: int, folder: Path) -> object:
    cells = Cells(seed)
    (folder / "s.csv").write_text(cells.lines("ms", [cells.of(NUMBERS) for _ in range(cells.rng.randint(0, 12))]))
    try:
        return parse_spread({"samples": "s.csv"}, duration_ns, "120 ms", "ms", 10**6, folder)
    except Refused as error:
        # The loader makes a refusal of it, at its place.
        raise BadInput(str(error)) from error


def trace(seed: int, folder: Path) -> object:
    cells = Cells(seed)
    start = datetime(2027, 2, 28, 12)
    hours = itertools.accumulate(cells.rng.choice([6, 6, 6, 5, 13]) for _ in range(cells.rng.choice([3, 140])))
    rows = [f"{start + timedelta(hours=hour)},{cells.of(COUNTS)}" for hour in hours]
    if cells.rng.random() < cells.wild:
        rows[-1] = f"{cells.time(1)},{cells.of(NUMBERS)}"
    (folder / "t.csv").write_text(cells.lines("time,count", rows))
    return read_trace(
        folder / "t.csv",
        month_clock("2027-03", "Europe/Dublin"),
        cells.rng.choice([0.0, 1.0, 1e9]),
        cells.rng.random() < 0.5,
    )


def trials(seed: int, folder: Path) -> object:
    cells = Cells(seed)
    rows = [",".join(cells.of(NUMBERS) for _ in range(7)) for _ in range(cells.rng.randint(1, 6))]
    (folder / "t.csv").write_text(cells.lines("clients,limit,calls,seconds,refused,p50 ms,p95 ms", rows))
    return read_trials(folder / "t.csv")


def metrics(seed: int, folder: Path) -> object:
    cells = Cells(seed)
    values = [(1_803_900_000 + 60 * n, cells.of(NUMBERS)) for n in range(cells.rng.randint(1, 12))]
    if seed % 2:
        rows = [f'events_total{{source="{cells.of(TEXTS)}"}} {value} {at * 1000}' for at, value in values]
        text = cells.lines("# TYPE events_total counter", rows)
    else:
        whole = ", ".join(f"[{at}, {json.dumps(value) if value else 9 * 10**400}]" for at, value in values)
        text = f'{{"status": "success", "data": {{"result": [{{"metric": {{"__name__": {json.dumps(cells.of(TEXTS))}}}, "values": [{whole}]}}]}}}}'
    (folder / "m.txt").write_text(text)
    return trace_of_files([folder / "m.txt"])


@cache
def _saved() -> str:
    """The projection of a small estate, as the program saves it."""
    from echotally.output.projection.projection_json import projection_json

    return projection_json(_small())


@cache
def _small() -> Projection:
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        (Path(name) / "model.toml").write_text(_MODEL)
        (Path(name) / "card.toml").write_text(_CARD)
        return project_loaded(load(Path(name) / "model.toml"), [])


_MODEL = """
schema = "echotally-model/1"
estate = { name = "small", month = "2027-03", rate_cards = ["card.toml"] }
functions.alpha = { memory = "256 MB", run = "100 ms" }
endpoints.e = {}
demand.d = { into = "endpoints.e", rate = "1 /h" }
triggers = [{ from = "endpoints.e", to = "alpha" }]
"""
_CARD = """
schema = "echotally-rates/1"
card = { name = "card", currency = "EUR" }
plans.p = { bills = "runs", memory = { choices = ["256 MB"] }, vcpu_per_gb = 1, price = { calls = { unit = "0.001" } } }
"""


def projection(seed: int, folder: Path) -> object:
    rng = Random(seed)
    data = json.loads(_saved())
    for _ in range(rng.randint(0, 3)):
        place = data
        while True:
            keys = list(place) if isinstance(place, dict) else list(range(len(place)))
            key = rng.choice(keys) if keys else None
            if key is None or not isinstance(place[key], dict | list) or rng.random() < 0.15:
                break
            place = place[key]
        if key is not None:
            place[key] = rng.choice([None, 0, -1.5, "x", "1e999999", [], {}, 10**400, "\x1b[31m", True])
    (folder / "a.json").write_text(_saved())
    (folder / "b.json").write_text(json.dumps(data))
    return compare(folder / "a.json", folder / "b.json")


def log(seed: int, folder: Path) -> object:
    cells = Cells(seed)
    rows = [
        f"{cells.time(n)},{cells.text()},{cells.of(NUMBERS)},{cells.of(NUMBERS)},{cells.rng.choice(['ok', 'error', 'timeout', '?'])}"
        for n in range(cells.rng.choice([3, 60]))
    ]
    (folder / "look[1].csv").write_text(
        cells.lines("time,function,run_ms,memory_used_mb,outcome", rows), encoding="utf-8"
    )
    return fit([folder / "look[1].csv"], function="alpha")


def bill(seed: int, folder: Path) -> object:
    cells = Cells(seed)
    rows = [
        ",".join(
            [
                cells.of(NUMBERS),
                "EUR",
                cells.text(),
                cells.rng.choice(["calls", "gb_seconds", "?"]),
                cells.of(NUMBERS),
                "Calls",
                '"{""team"": ""a""}"',
            ]
        )
        for _ in range(cells.rng.randint(1, 8))
    ]
    (folder / "bill.csv").write_text(
        cells.lines("BilledCost,BillingCurrency,ResourceName,SkuMeter,ConsumedQuantity,ConsumedUnit,Tags", rows),
        encoding="utf-8",
    )
    return read_bill(folder / "bill.csv", _small().model, BillWays(), "EUR", _small().month.clock)


def play(seed: int, folder: Path) -> object:
    """An estate on every plan, its longest months sampled from few events on; what is tried over and over is refused early."""
    from echotally.engine import watch

    watch._ENTRIES, watch._ENTRIES_AN_EVENT = 20_000_000, 50
    for name, text in files_of(seed).items():
        (folder / name).write_text(text, encoding="utf-8")
    loaded = load(folder / "model.toml")
    offers = [o for o in loaded.offers.values() if seed % 5 or o is next(iter(loaded.offers.values()))]
    if any(
        expected_events(loaded.model, loaded.month, placement_on(loaded.model, loaded.offers, o)) > 60_000
        for o in offers
    ):
        # Large months are of interest only now and then: a sample of each takes seconds.
        return project_loaded(loaded, [offers[0].name], how=Playing(sampled_from=60_000)) if seed % 50 == 0 else None
    return project_loaded(loaded, [o.name for o in offers])


#: Name -> (how many cases of a thousand of the readers' share, what is done with one).
READERS: dict[str, tuple[int, Case]] = {
    "model": (60, model), "card": (60, card), "cron": (260, cron), "recurrence": (10, recurrence), "samples": (220, samples), "trace": (60, trace),
    "trials": (160, trials), "metrics": (140, metrics), "projection": (14, projection), "log": (8, log), "bill": (8, bill),
}  # fmt: skip
TARGETS: dict[str, Case] = {name: case for name, (_, case) in READERS.items()} | {"play": play}
