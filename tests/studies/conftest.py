"""Estates of plans made up for a test."""

from __future__ import annotations

import pytest

from tests.conftest import HEAD
from tests.studies.made_up_plans import CARD


@pytest.fixture
def estate(tmp_path):
    """Write a model and a card of the plans given; returns the model's path."""

    def writer(model: str, *plans: str):
        (tmp_path / "card.toml").write_text(CARD + "".join(plans))
        (tmp_path / "m.toml").write_text(HEAD.format(month="2027-03", zone="UTC") + model)
        return tmp_path / "m.toml"

    return writer
