"""The map of an estate: what flows where is what was counted, and every place has one column and one row."""

from __future__ import annotations

import os
import subprocess
import sys
from decimal import Decimal
from itertools import pairwise
from pathlib import Path

import pytest

import echotally
from echotally.output.projection.map_chart import laid_out, map_figure
from echotally.output.projection.map_text import map_text
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.estate_map import EstateMap, estate_map

HEAD = """schema = "echotally-model/1"
[estate]
name = "a map"
month = "2027-02"
rate_cards = ["rates/heron.toml"]
[defaults]
memory = "256 MB"
run = "100 ms"
"""


def played(folder: Path, river: Path, text: str) -> tuple[Projection, PlayedPlan]:
    (folder / "rates").mkdir(exist_ok=True)
    (folder / "rates/heron.toml").write_bytes((river.parent / "rates/heron.toml").read_bytes())
    (folder / "model.toml").write_text(HEAD + text)
    found = echotally.project(folder / "model.toml", plans=["heron.per-run"])
    plan = found.plan("heron.per-run")
    assert isinstance(plan, PlayedPlan)
    return found, plan


@pytest.fixture(scope="module")
def of_river(river: Path) -> tuple[Projection, PlayedPlan, EstateMap]:
    found = echotally.project(river, plans=["heron.shared"])
    assert found.best is not None
    return found, found.best, estate_map(found, found.best)


def test_what_comes_to_a_function_is_what_it_counted(of_river: tuple[Projection, PlayedPlan, EstateMap]) -> None:
    _, plan, drawn = of_river
    for name in {unit.unit.function for unit in plan.units}:
        came = sum(line.events for line in drawn.lines if line.end == f"functions.{name}")
        assert came == pytest.approx(sum(unit.events["in"] for unit in plan.units_of(name)))


def test_what_arrives_at_a_source_comes_from_somewhere(of_river: tuple[Projection, PlayedPlan, EstateMap]) -> None:
    _, plan, drawn = of_river
    for source in {each.source for each in plan.measured.sources if each.source.kind != "schedules"}:
        copied = source.kind in ("streams", "topics")
        mine = [each for each in plan.measured.sources if each.source == source]
        arrived = sum(each.sends if copied else each.arrived for each in mine)
        came = sum(line.events for line in drawn.lines if line.end == source)
        assert came == pytest.approx(arrived, rel=1e-9), source


def test_money_is_on_the_map_once(of_river: tuple[Projection, PlayedPlan, EstateMap]) -> None:
    _, plan, drawn = of_river
    on_map = sum((node.cost for node in drawn.nodes.values() if node.cost is not None), Decimal(0))
    nobody = plan.bill.idle + plan.bill.flat
    assert float(on_map + nobody) == pytest.approx(float(plan.bill.unrounded), abs=1e-9)


def test_lines_go_to_the_right_and_no_two_places_share_one(of_river: tuple[Projection, PlayedPlan, EstateMap]) -> None:
    places = laid_out(of_river[2])
    assert all(places[line.start][0] < places[line.end][0] for line in of_river[2].lines if line.kind != "letters")
    rows: dict[int, list[float]] = {}
    for layer, row in places.values():
        rows.setdefault(layer, []).append(row)
    for column in rows.values():
        column.sort()
        assert all(b - a > 0.999 for a, b in pairwise(column))


def test_asked_requests_dead_letters_and_troubles(tmp_path: Path, river: Path) -> None:
    found, plan = played(
        tmp_path,
        river,
        """
[functions.front]
asks = [{ to = "endpoints.back" }]
[functions.back]
[functions.bad]
error_rate = 1.0
[endpoints.front]
[endpoints.back]
[queues.work]
visibility = "1 min"
tries = 2
dead_letter = "queues.parked"
[queues.parked]
[demand.people]
into = "endpoints.front"
rate = "60 /h"
[demand.jobs]
into = "queues.work"
rate = "60 /h"
[[triggers]]
from = "endpoints.front"
to = "front"
[[triggers]]
from = "endpoints.back"
to = "back"
[[triggers]]
from = "queues.work"
to = "bad"
""",
    )
    drawn = estate_map(found, plan)
    kinds = {(line.start, line.end): line.kind for line in drawn.lines}
    assert kinds["functions.front", "endpoints.back"] == "asks"
    assert kinds["functions.bad", "queues.parked"] == "letters"
    (trouble,) = drawn.nodes["functions.bad"].troubles
    letters = sum(unit.events["dead_lettered"] for unit in plan.units_of("bad"))
    assert trouble.kind == "lost" and trouble.figure >= letters > 600
    assert not drawn.nodes["functions.front"].troubles
    text = map_text(found, 140, False)
    assert "⇢ endpoints.back → back" in text and "✖ queues.parked" in text and "left behind" in text


@pytest.mark.parametrize(("n", "grouped"), [(4, None), (60, None), (61, "tag team"), (100, "tag team")])
def test_above_sixty_functions_they_are_grouped(n: int, grouped: str | None, tmp_path: Path, river: Path) -> None:
    lines = []
    for k in range(n):
        lines += [f"[functions.f{k}]", f'tags = {{ team = "team-{k % 7}" }}']
        lines += [f"[queues.q{k}]", f"[demand.d{k}]", f'into = "queues.q{k}"', 'rate = "1 /h"']
        lines += ["[[triggers]]", f'from = "queues.q{k}"', f'to = "f{k}"']
    found, plan = played(tmp_path, river, "\n".join(lines))
    drawn = estate_map(found, plan)
    assert drawn.grouped == grouped
    boxes = [node for node in drawn.nodes.values() if node.kind in ("function", "group")]
    assert len(boxes) == (n if grouped is None else 7)
    assert sum(node.events for node in boxes) == sum(unit.events["in"] for unit in plan.units)
    figure = map_figure(found, plan)
    assert figure.get_figheight() <= 30


def test_an_estate_that_groups_in_a_circle_is_laid_out(tmp_path: Path, river: Path) -> None:
    """Teams that hand work to each other and back make a circle of groups, which is cut."""
    lines = []
    for k in range(62):
        onward = f'emits = [{{ into = "queues.q{k + 1}", each = 1 }}]' if k < 61 else ""
        lines += [f"[functions.f{k}]", onward, f'tags = {{ team = "{"ab"[k % 2]}" }}', f"[queues.q{k}]"]
        lines += ["[[triggers]]", f'from = "queues.q{k}"', f'to = "f{k}"']
    lines += ["[demand.d]", 'into = "queues.q0"', 'rate = "1 /d"']
    found, plan = played(tmp_path, river, "\n".join(lines))
    drawn = estate_map(found, plan)
    assert len([node for node in drawn.nodes.values() if node.kind == "group"]) == 2
    assert set(laid_out(drawn)) == set(drawn.nodes)


def independent(n: int, tags: str = "") -> str:
    """Functions of names that begin with no common word, a request an hour each."""
    return "".join(
        f'[functions.f{k}]\n{tags}\n[endpoints.e{k}]\n[[triggers]]\nfrom = "endpoints.e{k}"\nto = "f{k}"\n'
        f'[demand.d{k}]\ninto = "endpoints.e{k}"\nrate = "{1 + k} /h"\n'
        for k in range(n)
    )


def test_where_no_word_brings_functions_together_the_dearest_stand_alone(tmp_path: Path, river: Path) -> None:
    found, plan = played(tmp_path, river, independent(70))
    drawn = estate_map(found, plan)
    alone = {node.label for node in drawn.nodes.values() if node.kind == "function"}
    (others,) = (node for node in drawn.nodes.values() if node.kind == "group")
    # Requests cost alike, so that who has most of them costs most.
    assert alone == {f"f{k}" for k in range(50, 70)} and set(others.members) == {f"f{k}" for k in range(50)}
    assert sum(node.events for node in drawn.nodes.values() if node.kind in ("function", "group")) == sum(
        unit.events["in"] for unit in plan.units
    )
    assert {"demand.d69", "endpoints.e69"} <= set(drawn.nodes) and "endpoints.e3" not in drawn.nodes


_LAID_OUT = """
from random import Random
from echotally.output.projection.map_chart import laid_out
from echotally.projection.estate_map import EstateMap, Line, Node
chance = Random(1)
for case in range(60):
    nodes = {str(n): Node(str(n), "function", str(n), 1.0) for n in range(chance.randrange(1, 70))}
    pairs = [chance.sample(sorted(nodes, key=int), 2) for _ in range(chance.randrange(90)) if len(nodes) > 1]
    lines = tuple(Line(min(pair, key=int), max(pair, key=int), 1.0) for pair in pairs)
    places = laid_out(EstateMap("", nodes, lines))
    assert len(set(places.values())) == len(nodes)
print("all laid out")
"""


@pytest.mark.parametrize("filled_with", ["165", "90"])
def test_the_layout_reads_no_memory_that_it_never_wrote(filled_with: str) -> None:
    """New memory is filled with a pattern (glibc; elsewhere nothing is asked): what is read before it is written then ends it."""
    done = subprocess.run(
        [sys.executable, "-c", _LAID_OUT],
        env={**os.environ, "MALLOC_PERTURB_": filled_with},
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    assert (done.returncode, done.stdout) == (0, "all laid out\n"), done.stderr


def test_ways_that_part_and_meet_again_are_told_once(tmp_path: Path, river: Path) -> None:
    layers = 16
    text = '[demand.d]\ninto = "topics.t0"\nrate = "1 /h"\n'
    for n in range(layers):
        into = f'emits = [{{ into = "topics.t{n + 1}", each = 0.5, payload = "1 kB" }}]\n' if n + 1 < layers else ""
        text += f"[topics.t{n}]\n"
        for side in "ab":
            text += f'[functions.{side}{n}]\n{into}[[triggers]]\nfrom = "topics.t{n}"\nto = "{side}{n}"\n'
    found, plan = played(tmp_path, river, text)
    told = map_text(found, 200).splitlines()
    # A line for each way from place to place, not one for each of the 2 ** 16 through the estate.
    assert sum(" → " in line for line in told) <= len(estate_map(found, plan).lines)
    assert sum("(above)" in line for line in told) == layers - 1
