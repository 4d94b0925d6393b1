"""What attempts carried: the diary's lines of events agree with what the month counted, event for event."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import pytest

from echotally.engine.codes import FAILED, SUCCEEDED, THROTTLED, TIMED_OUT
from echotally.evidence.stand_in import stand_in
from echotally.projection.loaded import load
from echotally.projection.project import project
from tests.evidence.made_estates import made_estate
from tests.evidence.round_trips import PLAN


@pytest.mark.parametrize("seed", [11, 31, 34])
def test_what_attempts_carried_is_what_the_month_counted(seed: int, tmp_path: Path) -> None:
    loaded = load(made_estate(seed).write(tmp_path))
    platform = stand_in(loaded, PLAN, cargo=True)
    names = [f"{unit.function}@{unit.environment}" for unit in platform.built.units]
    sources = [str(source) for _, source in platform.built.sources]
    came, begun, ended = Counter[str](), Counter[str](), Counter[tuple[str, int]]()
    owner: dict[int, str] = {}
    noted, put_out = 0, 0
    for page in platform.pages():
        for line in page.born:
            if line["number"] >= 0:
                came[sources[line["source"]]] += 1
                owner[int(line["number"])] = sources[line["source"]]
                # What a function put out was put out by an attempt that had been noted, or is now.
                assert line["origin"] < noted + len(page.attempts)
                put_out += line["origin"] >= 0
        held = Counter(page.carried["attempt"].tolist())
        for place, attempt in enumerate(page.attempts):
            name, outcome = names[attempt["unit"]], int(attempt["outcome"])
            begun[name] += outcome != THROTTLED
            ended[name, outcome] += 1
            # Every attempt held as many events as it says.
            assert held[noted + place] == attempt["items"]
        assert all(int(number) in owner for number in page.carried["number"])
        noted += len(page.attempts)
    plan = project(tmp_path / "model.toml", plans=[PLAN]).played[0]
    for function in plan.measured.units:
        name = f"{function.unit.function}@{function.unit.environment}"
        assert ended[name, SUCCEEDED] == function.attempts["succeeded"]
        assert (
            ended[name, FAILED] + ended[name, TIMED_OUT] == function.attempts["failed"] + function.attempts["timed_out"]
        )
    emitting = any(f.emits for f in loaded.model.functions.values())
    assert (put_out > 0) == emitting
    # Every event that a function handled had come, and from where its trigger reads.
    for trigger in loaded.model.triggers:
        assert came[str(trigger.from_)] > 0 or not any(
            n for (name, _), n in ended.items() if name.startswith(f"{trigger.to}@")
        )
