"""Values written into a model: ``fit --write`` and ``measure --write``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from echotally.cli import saying
from echotally.files import text_of, write_whole

if TYPE_CHECKING:
    from echotally.evidence.fit.proposal import Proposal


def write_values(model: Path, proposal: Proposal) -> None:
    """Files of samples first, so that the model never names one that is not there; the new text is loaded before it replaces
    the old one.
    """
    from echotally.model.writing import with_values

    new = [model.parent / name for name, _ in proposal.files if not (model.parent / name).exists()]
    text = with_values(text_of(model), proposal.sets).encode()
    for name, samples in proposal.files:
        write_whole(model.parent / name, samples.encode())
    try:
        _try(model, text)
    except BaseException:
        for path in new:
            path.unlink(missing_ok=True)
        raise
    write_whole(model, text)
    saying.note(f"Written into {model}: {', '.join(address for address, _ in proposal.sets)}.")


def _try(model: Path, text: bytes) -> None:
    """Load a text where the model lies, under another name, since it names files by where it lies."""
    from echotally.projection.loaded import load

    tried = model.with_name(f".tried-{model.name}")
    try:
        write_whole(tried, text)
        load(tried)
    finally:
        tried.unlink(missing_ok=True)
