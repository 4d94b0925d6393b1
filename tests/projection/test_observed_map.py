"""The map of what was observed: flows worked out by hand from what each function got."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest

from echotally.model.estate import Model
from echotally.projection.estate_map import EstateMap, Line, Trouble
from echotally.projection.loaded import load
from echotally.projection.observed_map import observed_map
from tests.projection.test_estate_map import HEAD, independent

TEXT = """
[functions.intake]
emits = [{ into = "topics.flood", each = 0.1 }]
asks = [{ to = "endpoints.latest", each = 2 }]
[functions.latest]
[functions.mail]
[functions.sms]
[streams.levels]
[topics.flood]
feeds = [{ into = "queues.mail" }, { into = "queues.sms", share = 0.5 }]
[queues.mail]
[queues.sms]
[endpoints.latest]
[[triggers]]
from = "streams.levels"
to = "intake"
[[triggers]]
from = "endpoints.latest"
to = "latest"
[[triggers]]
from = "queues.mail"
to = "mail"
[[triggers]]
from = "queues.sms"
to = "sms"
[demand.gauges]
into = "streams.levels"
rate = "1 /h"
[demand.ferries]
into = "streams.levels"
rate = "1 /h"
"""
GOT = {"intake": 1_000.0, "latest": 2_000.0, "mail": 100.0, "sms": 48.0}


@pytest.fixture
def model(tmp_path: Path, river: Path) -> Model:
    (tmp_path / "rates").mkdir()
    (tmp_path / "rates/heron.toml").write_bytes((river.parent / "rates/heron.toml").read_bytes())
    (tmp_path / "model.toml").write_text(HEAD + TEXT)
    return load(tmp_path / "model.toml").model


def lines_of(drawn: EstateMap) -> dict[tuple[str, str], Line]:
    return {(line.start, line.end): line for line in drawn.lines}


def test_what_went_along_each_line_follows_from_what_functions_got(model: Model) -> None:
    trouble = (Trouble("throttled", 0.25),)
    drawn = observed_map(model, GOT, {"mail": Decimal("1.50")}, {"sms": trouble})
    lines = lines_of(drawn)
    assert {pair: line.events for pair, line in lines.items()} == {
        ("functions.intake", "topics.flood"): 100,
        ("functions.intake", "endpoints.latest"): 2_000,
        ("topics.flood", "queues.mail"): 100,
        ("topics.flood", "queues.sms"): 48,
        # Two demands bring what the stream's reader got, in equal shares.
        ("demand.gauges", "streams.levels"): 500,
        ("demand.ferries", "streams.levels"): 500,
        ("streams.levels", "functions.intake"): 1_000,
        ("endpoints.latest", "functions.latest"): 2_000,
        ("queues.mail", "functions.mail"): 100,
        ("queues.sms", "functions.sms"): 48,
    }
    assert lines["functions.intake", "endpoints.latest"].kind == "asks"
    # A topic gives each event to all who listen.
    assert drawn.nodes["topics.flood"].events == 100 and drawn.nodes["streams.levels"].events == 1_000
    assert drawn.nodes["functions.sms"].troubles == trouble
    costs = {node.label: node.cost for node in drawn.nodes.values() if node.kind == "function"}
    assert costs == {"intake": 0, "latest": 0, "mail": Decimal("1.50"), "sms": 0}
    # Without a bill nobody knows.
    assert observed_map(model, GOT, {}, {}).nodes["functions.mail"].cost is None


def test_many_functions_are_grouped_as_on_the_map_of_a_month(tmp_path: Path, model: Model) -> None:
    (tmp_path / "model.toml").write_text(HEAD + independent(70, 'tags = { team = "keepers" }'))
    many = load(tmp_path / "model.toml").model
    drawn = observed_map(many, dict.fromkeys(many.functions, 1.0), {}, {})
    assert drawn.grouped == "cost, 20 alone"
    assert sum(len(node.members) for node in drawn.nodes.values() if node.kind == "group") == 50
