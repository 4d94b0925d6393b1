"""What nobody said a run needs is not taken for known: sweeps and choices of memory say so, in their first lines or at their end."""

from __future__ import annotations

import pytest

from echotally.output.studies.choose_view import choose_text
from echotally.output.studies.sweep_view import sweep_text
from echotally.studies.choose import choose
from echotally.studies.sweep import sweep

WORK = """
[functions.work]
memory = "512 MB"
run = "200 ms"
{used}
[queues.q]
[demand.d]
into = "queues.q"
rate = "2 /min"
[[triggers]]
from = "queues.q"
to = "work"
"""
SAID = "The model does not say what memory a run of work needs (memory_used): below the 512 MB it is given now it may not run."


@pytest.mark.parametrize(
    ("used", "sizes", "told"),
    [
        ("", "256 MB,512 MB", True),
        ("", "512 MB,1 GB", False),
        ('memory_used = "100 MB"', "256 MB,512 MB", False),
    ],
)
def test_a_sweep_below_todays_memory_says_what_is_not_known(write, used: str, sizes: str, told: bool) -> None:  # type: ignore[no-untyped-def]
    found = sweep(write(WORK.format(used=used)), [f"functions.work.memory={sizes}"], workers=1)
    first = sweep_text(found, 160).split("\n\n")[0]
    assert (SAID in first) is told


def test_another_axis_is_no_size(write) -> None:  # type: ignore[no-untyped-def]
    found = sweep(write(WORK.format(used="")), ["functions.work.instance_limit=1,2"], workers=1)
    assert "memory_used" not in sweep_text(found, 160)


@pytest.mark.parametrize(("used", "told"), [("", True), ('memory_used = "100 MB"', False)])
def test_a_choice_says_why_memory_is_not_made_smaller(write, used: str, told: bool) -> None:  # type: ignore[no-untyped-def]
    found = choose(write(WORK.format(used=used)))
    text = choose_text(found, 160)
    assert (
        "Memory is not made smaller where the model does not say what is needed (memory_used): work." in text
    ) is told
    # Where it is known, the smallest that holds it is looked at.
    assert any(address == "functions.work.memory" for address, _ in found.sets) is not told
