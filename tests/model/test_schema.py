"""The JSON Schemas against a standard validator: the demo passes, what the loader refuses for its shape does not."""

from __future__ import annotations

import json
import tomllib
from datetime import date, datetime
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator

from echotally.demo import packaged_files
from echotally.errors import BadInput
from echotally.model import estate, happenings
from echotally.model.fields import Strict
from echotally.model.json_schema import model_schema
from echotally.model.key_texts import MODEL_KEYS
from echotally.model.loading import load_model
from echotally.rates import card
from echotally.rates.card_loading import load_card
from echotally.rates.json_schema import rates_schema
from echotally.rates.key_texts import CARD_KEYS
from tests.conftest import run_program
from tests.small_river import small_river_files

MODEL, RATES = (Draft202012Validator(schema) for schema in (model_schema(), rates_schema()))
RIVER = {name: data.decode() for name, data in small_river_files().items() if not name.endswith(".gz")}


def plain(value):
    """TOML data as JSON holds it."""
    if isinstance(value, dict):
        return {key: plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [plain(inner) for inner in value]
    return value.isoformat() if isinstance(value, date | datetime) else value


def accepted(validator: Draft202012Validator, text: str) -> bool:
    return validator.is_valid(plain(tomllib.loads(text)))


@pytest.mark.parametrize("folder", ["river-watch", "starter"])
def test_what_ships_is_valid(folder):
    for name, content in packaged_files(folder).items():
        if name.endswith(".toml"):
            validator = RATES if name.startswith("rates/") else MODEL
            assert [e.message for e in validator.iter_errors(plain(tomllib.loads(content.decode())))] == []


def test_the_schemas_are_schemas_themselves():
    for validator in (MODEL, RATES):
        Draft202012Validator.check_schema(validator.schema)


@pytest.mark.parametrize(
    ("modules", "described"), [((estate, happenings), MODEL_KEYS), ((card,), CARD_KEYS)], ids=["model", "rates"]
)
def test_every_key_has_a_line_of_help_and_no_line_is_left_over(modules, described):
    tables = {
        name: kind
        for module in modules
        for name, kind in vars(module).items()
        if isinstance(kind, type) and issubclass(kind, Strict) and kind.__module__ == module.__name__
    }
    assert set(tables) == set(described)
    for name, kind in tables.items():
        assert {info.alias or key for key, info in kind.model_fields.items()} == set(described[name]), name


MUTATIONS = [
    ('month = "2027-03"', 'month = "March"'), ('month = "2027-03"', 'month = "2027-13"'), ("seed = 7", 'seed = "7"'),
    ("seed = 7", "seed = -1"), ("seed = 7", "sead = 7"), ('name = "Fenwater river watch"', ""), ('name = "Fenwater river watch"', 'name = ""'),
    ('schema = "echotally-model/1"', 'schema = "echotally-model/9"'), ('schema = "echotally-model/1"', ""),
    ('rate_cards = ["rates/heron.toml", "rates/osier.toml"]', "rate_cards = []"),
    ('memory = "512 MB"', "memory = 512"), ('memory = "512 MB"', 'memory = "512 kB"'), ('timeout = "1 min"', 'timeout = "1 minute"'),
    ('timeout = "1 min"', "timeout = 60"), ('run = "180 ms"', 'run = { median = "1 s" }'), ('run = "180 ms"', "run = 180"),
    ('run = "180 ms"', ""), ('per_item = "4 ms"', 'per_items = "4 ms"'), ("error_rate = 0.002", "error_rate = 1.5"),
    ("error_rate = 0.002", 'error_rate = "often"'), ("each = 0.02", "each = -1"), ('into = "topics.flood"', 'into = "flood"'),
    ("cpu_share = 0.9", 'cpu_share = "much"'), ("instance_limit = 12", "instance_limit = 0"), ("instance_limit = 12", "instance_limit = 1.5"),
    ('reply_bytes = "40 kB"', 'reply_bytes = "40 MiB"'), ('cron = "30 1 * * *"', 'cron = "30 1 * * *"\nevery = "1 h"'),
    ('cron = "30 1 * * *"', ""), ("items = 1200", "items = 0"), ('overlap = "skip"', 'overlap = "queue"'), ("partitions = 2", "partitions = 0"),
    ("share = 0.3", "share = 3"), ("tries = 3", 'tries = "3"'), ('retention = "14 d"', 'retention = "2 weeks"'),
    ('rate = "160 /h"', 'rate = "160"'), ('rate = "160 /h"', 'rate = "160 /h"\nmonthly = 5'), ('rate = "160 /h"', ""),
    ("times = 6 }", 'times = 6, until = "x" }'), ('at = "2027-03-14T04:00"', 'at = "soon"'), ("range = { low = 0.8, high = 1.6 }", "range = { low = 0.8 }"),
    ("burst = 6", ""), ('spread = "bursty"', 'spread = "lumpy"'), ("0.5, 1, 1,", "0.5, 1,"), ("client_tries = 2", "client_tries = 0"),
    ("batch = 25", "batch = 0"), ('batch_wait = "2 min"', "batch_wait = 2"), ('to = "look"', ""), ("demand = 0.05", 'demand = "small"'),
    ("throttled = 0.01", "throttled = 2"), ('monthly_cost = "40"', "monthly_cost = 40.5"), ("[targets]", "[target]"), ("lost = 20", "lost = 1.5"),
]  # fmt: skip
CARD_MUTATIONS = [
    ('currency = "EUR"', 'currency = "euro"'), ('bills = "runs"', 'bills = "minutes"'), ("vcpu_per_gb = 0.55", ""), ('calls = { per', 'cals = { per'),
    ('unit = "0.24"', "unit = 0.24"), ('unit = "0.24"', 'unit = "0.24", tiers = [{ unit = "1" }]'), ("burst = 50, ", ""),
    ("calls = 20_000", "cals = 20_000"), ('from = "128 MB", to = "8 GB", step = "64 MB"', 'from = "128 MB", to = "8 GB"'),
    ("instances = 2", ""), ("already_used = 0.4", "already_used = 1.4"), ('pull = "eager"', 'pull = "hard"'), ('scope = "function"', 'every = "30 s"'),
]  # fmt: skip


@pytest.mark.parametrize("change", MUTATIONS, ids=[f"{new[:30]!r}-{n}" for n, (_, new) in enumerate(MUTATIONS)])
def test_what_the_loader_refuses_in_a_model_the_schema_refuses(change, tmp_path):
    old, new = change
    assert old in RIVER["river.toml"]
    text = RIVER["river.toml"].replace(old, new, 1)
    (tmp_path / "m.toml").write_text(text)
    with pytest.raises(BadInput):
        load_model(tmp_path / "m.toml")
    assert not accepted(MODEL, text)


@pytest.mark.parametrize(
    "change", CARD_MUTATIONS, ids=[f"{new[:30]!r}-{n}" for n, (_, new) in enumerate(CARD_MUTATIONS)]
)
def test_what_the_loader_refuses_in_a_card_the_schema_refuses(change, tmp_path):
    old, new = change
    assert old in RIVER["rates/heron.toml"]
    text = RIVER["rates/heron.toml"].replace(old, new, 1)
    (tmp_path / "c.toml").write_text(text)
    with pytest.raises(BadInput):
        load_card(tmp_path / "c.toml")
    assert not accepted(RATES, text)


def test_start_writes_the_schemas_its_files_point_to(tmp_path):
    assert run_program("start", "mine", cwd=tmp_path).returncode == 0
    for file, printed in (("mine/model.toml", "model"), ("mine/rates/starter.toml", "rates")):
        first = (tmp_path / file).read_text().splitlines()[0]
        target = Path(tmp_path / file).parent / first.removeprefix("#:schema ")
        done = run_program("schema", printed, cwd=tmp_path)
        assert json.loads(target.read_text()) == json.loads(done.stdout)
