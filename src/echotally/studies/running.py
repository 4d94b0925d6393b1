"""What every study may be asked beside its own question: the seed, the split of its costs, and where its months are played."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypedDict

from msgspec import Struct

Progress = Callable[[str, float], None]


class Running(Struct, frozen=True):
    """How a study of many months is played; nothing but ``seed`` and ``by`` changes its answer.

    ``seed``: in place of the model's own. ``by`` splits costs as ``showback`` does, a column ``cost_by:LABELS`` for each part.
    ``workers``: processes on this machine (-1: one a core); ``cluster``: the address of a Dask scheduler whose workers play
    instead. ``store``: a file that keeps finished points, so that a study cut off goes on where it stopped.
    ``progress`` is told a text and the share that is done.
    """

    seed: int | None = None
    by: str | None = None
    workers: int = -1
    store: Path | str | None = None
    cluster: str | None = None
    progress: Progress | None = None


class RunningWords(TypedDict, total=False):
    """The same, as keywords of a study's call."""

    seed: int | None
    by: str | None
    workers: int
    store: Path | str | None
    cluster: str | None
    progress: Progress | None
