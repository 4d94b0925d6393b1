"""What ``follow`` and ``measure`` print, write and draw, on the demo."""

from __future__ import annotations

import json
from datetime import datetime
from decimal import Decimal

import pytest
from msgspec.structs import replace

from echotally.evidence.measure.keys import keys_of
from echotally.evidence.measure.pasting import propose
from echotally.evidence.measure.rows import Level
from echotally.output.base.exports import in_form
from echotally.output.evidence.measure_chart import measure_chart
from echotally.output.evidence.measure_view import Measured, measure_json, measure_text
from echotally.output.studies.follow_chart import follow_chart
from echotally.output.studies.follow_spans import follow_otlp
from echotally.output.studies.follow_view import follow_json, follow_text
from echotally.projection.project import project
from echotally.projection.worth_following import worth_following
from echotally.studies.follow import Followed, Which, follow
from tests.evidence.test_measure import a_try
from tests.evidence.test_otlp_writing import read_otlp


@pytest.fixture(scope="module")
def letter(river) -> Followed:
    """A warning that the demo's flood brought to the dead letter."""
    return follow(river, Which(happened="dead-letter"), "heron.per-run")


def test_the_first_lines_say_what_became_of_it_and_what_it_cost(letter: Followed) -> None:
    text = follow_text(letter, 120, False)
    lines = text.splitlines()
    assert "the first event that went to a dead letter" in lines[0]
    assert lines[1].startswith("Given up, to the dead letter after 5 min") and "queues.sms" in lines[1]
    assert "in 5 attempts" in lines[2] and "with the 1 that followed" in lines[3]
    assert "belongs to no event" in text and "copied to 2 readers" in text
    # Local times with their offset, on both sides of the change of clocks.
    assert "+00:00" in text and "+01:00" in text
    cut = follow_text(letter, 120, False, depth=0)
    assert "1 more followed" in cut and "queues.parked" not in cut


def test_times_and_money_of_the_data_hold_together(letter: Followed) -> None:
    told = json.loads(follow_json(letter))
    root = told["event"]
    began = datetime.fromisoformat(root["at"])

    def check(arrival) -> Decimal:
        here = Decimal(arrival["cost"]["here"])
        gap = datetime.fromisoformat(arrival["at"]) - began
        assert gap.total_seconds() * 1e3 == pytest.approx(arrival["after_ms"], abs=1)
        followed = here
        for copy in arrival["copies"]:
            last = arrival["after_ms"]
            for each in copy["attempts"]:
                assert (
                    each["function"]
                    and last <= each["started_after_ms"] + 1e-6
                    and each["started_after_ms"] <= each["ended_after_ms"]
                )
                last = each["ended_after_ms"]
            followed += sum((check(out) for out in copy["put_out"]), Decimal(0))
        assert followed == Decimal(arrival["cost"]["with_what_followed"])
        return followed

    check(root)
    assert told["rows"][0]["after_ms"] == 0
    assert {row["function"] for row in told["rows"] if row["attempt"] is not None} == {"send-sms", "send-mail"}
    assert in_form("csv", str, lambda: follow_json(letter)).startswith("at,after_ms,depth,place,what,text")


def test_its_spans_are_read_by_the_standards_own_messages(letter: Followed) -> None:
    data = json.loads(follow_otlp(letter))
    spans = data["resourceSpans"][0]["scopeSpans"][0]["spans"]
    for span in spans:
        # Identifiers are hexadecimal in OTLP's JSON, base64 in that of protocol buffers.
        assert len(span["traceId"]) == 32 and len(span["spanId"]) == 16
        int(span["traceId"] + span["spanId"] + span.get("parentSpanId", "0"), 16)
        assert int(span["startTimeUnixNano"]) <= int(span["endTimeUnixNano"])
    ids = [span["spanId"] for span in spans]
    assert len(set(ids)) == len(ids)
    assert {span["parentSpanId"] for span in spans if "parentSpanId" in span} <= set(ids)
    assert sum(1 for span in spans if span["name"] == "send-sms") == 5
    read = read_otlp(data, "trace")
    assert len(read.resource_spans[0].scope_spans[0].spans) == len(spans)


def test_the_same_event_gives_the_same_bytes(letter: Followed, river) -> None:
    again = follow(river, Which(happened="dead-letter"), "heron.per-run")
    assert follow_json(again) == follow_json(letter) and follow_otlp(again) == follow_otlp(letter)
    picture = follow_chart(letter, "png")
    assert picture.startswith(b"\x89PNG") and picture == follow_chart(again, "png")
    assert b"<svg" in follow_chart(letter, "svg")


@pytest.mark.parametrize("plan", ["heron.per-run", "heron.shared", "osier.elastic"])
def test_what_is_worth_following_is_there(plan, river) -> None:
    played = project(river, plans=[plan]).played[0]
    for function in (None, "map", "send-sms", "intake"):
        line = worth_following(played, function)
        if line is None:
            continue
        words = line.split()
        assert words[:5] == ["echotally", "follow", "MODEL", "--plan", plan] and words[6] == "--function"
        found = follow(river, Which(happened=words[5].removeprefix("--"), function=words[7]), plan)
        assert any(copy.function == words[7] for copy in found.root.copies)


def measured(levels: tuple[Level, ...] = ()) -> Measured:
    tried = a_try([0.1, 0.11, 0.105, 0.1, 0.12, 0.1], levels)
    keys = keys_of(tried)
    return Measured(tried, keys, propose(keys, "map"))


def test_a_measurement_says_how_sure_it_is_and_what_to_paste() -> None:
    text = measure_text(measured(), 110, False)
    assert "a warm run takes" in text.splitlines()[0] and text.rstrip().splitlines()[-1].startswith("log_bytes")
    assert "[functions.map]" in text and "Measured here: 2 vCPUs" in text
    found = measured()
    busy = replace(found, tried=replace(found.tried, machine=replace(found.tried.machine, load=3.1)))
    assert "Machine busy: a load of 3.1" in "".join(measure_text(busy, 110, False).splitlines()[:3])
    data = json.loads(measure_json(busy))
    assert (
        data["machine"]["busy"]
        and data["keys"]["run"]["low"] <= data["keys"]["run"]["value"] <= data["keys"]["run"]["high"]
    )
    assert [row["run"] for row in data["rows"]] == [1, 2, 3, 4, 5, 6]


def test_levels_are_drawn_and_told() -> None:
    found = measured((Level(1, 10, 1.0, 0.1, 0.1, 0.1), Level(4, 40, 4.0, 0.4, 0.4, 0.4)))
    assert "It serves one after the other" in measure_text(found, 110, False)
    assert [row["is_like"] for row in json.loads(measure_json(found))["levels"]] == ["stretched", "one after the other"]
    assert measure_chart(found, "png").startswith(b"\x89PNG") and b"one after the other" in measure_chart(found, "svg")
