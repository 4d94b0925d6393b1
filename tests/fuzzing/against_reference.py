"""New random estates through the compiled loop and the plain reference: ``python -m tests.fuzzing.against_reference SEED COUNT``."""

from __future__ import annotations

import sys

from hypothesis import HealthCheck, Phase, given, seed, settings

from tests.engine.test_slow_engine import agrees
from tests.strategies import estates


def compare(number: int, count: int) -> None:
    """Compare ``count`` estates that belong to a seed; raises ``AssertionError`` with the estate where they differ."""

    @seed(number)
    @settings(
        max_examples=count,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        phases=[Phase.generate],
        database=None,
    )
    @given(estates())
    def each(estate: tuple[str, str]) -> None:
        agrees(estate)

    each()


if __name__ == "__main__":
    compare(int(sys.argv[1]), int(sys.argv[2]))
