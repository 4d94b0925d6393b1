"""Small estates written to a temporary folder, and the installed program driven on them."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from echotally.engine.reading import UnitMeasured
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.project import project

HEAD = """
schema = "echotally-model/1"
[estate]
name = "test"
month = "{month}"
timezone = "{zone}"
rate_cards = ["card.toml"]
"""
CARD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "runs"
memory = {{ from = "128 MB", to = "8 GB", step = "64 MB" }}
vcpu_per_gb = 2
{keys}
[plans.plan.price]
{prices}
"""
PRICES = 'calls = { per = 1_000_000, unit = "0.20" }\ngb_seconds = { unit = "0.00002" }'


@pytest.fixture
def write(tmp_path: Path) -> Callable[..., Path]:
    """Write a model (head supplied) and a card; returns the model's path."""

    def writer(
        model: str, keys: str = "", prices: str = PRICES, month: str = "2027-03", zone: str = "UTC", card: str = ""
    ) -> Path:
        path = tmp_path / "model.toml"
        path.write_text(HEAD.format(month=month, zone=zone) + model)
        (tmp_path / "card.toml").write_text(card or CARD.format(keys=keys, prices=prices))
        return path

    return writer


@pytest.fixture
def play(write: Callable[..., Path], tmp_path: Path) -> Callable[..., PlayedPlan]:
    """Play a small estate on its only plan."""

    def player(model: str, seed: int = 1, sets: tuple[tuple[str, str], ...] = (), **card: str) -> PlayedPlan:
        projection = project(write(model, **card), sets, seed=seed)
        assert projection.played, projection.refused
        return projection.played[0]

    player.folder = tmp_path  # type: ignore[attr-defined]
    return player


def unit(plan: PlayedPlan, name: str = "f") -> UnitMeasured:
    """The measurements of one function in its first environment."""
    return next(u for u in plan.measured.units if u.unit.function == name)


def run_program(*arguments: str, cwd: Path, **more: object) -> subprocess.CompletedProcess[str]:
    """The installed program, as a stranger runs it."""
    return subprocess.run(
        [sys.executable, "-m", "echotally", *arguments], cwd=cwd, capture_output=True, text=True, timeout=240, **more
    )  # type: ignore[call-overload,no-any-return]


@pytest.fixture(scope="session")
def river(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's model in a folder of its own."""
    from echotally.demo import write_example

    folder = tmp_path_factory.mktemp("river")
    write_example("river-watch", folder)
    return folder / "river.toml"


@pytest.fixture(scope="session")
def river_projection(river: Path) -> Projection:
    """The demo, projected once for all tests."""
    return project(river)
