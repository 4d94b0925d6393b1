"""The corpus of answers: what a month came to stays, byte for byte, until a commit says why it does not."""

from __future__ import annotations

import pytest

from tests.unchanged import ESTATES, HERE, answer, compared


@pytest.mark.parametrize("estate", ESTATES, ids=lambda path: path.stem)
def test_an_answer_is_what_it_was(estate, tmp_path):
    wanted = (HERE / "answers" / f"{estate.stem}.jsonl").read_text(encoding="utf-8")
    assert compared(answer(estate, tmp_path), wanted) == wanted


def test_every_answer_has_its_estate():
    assert {path.stem for path in (HERE / "answers").iterdir()} == {path.stem for path in ESTATES}
