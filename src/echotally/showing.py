"""How a result shows itself: in a few lines where Python prints it, as a table in a notebook.

What is shown is worked out by the views, which stand above all results; so they are named here and imported when they are asked.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from msgspec import Struct


def late(place: str) -> Any:
    """What stands at ``module:name``, imported now."""
    module, _, name = place.partition(":")
    return getattr(import_module(module), name)


class Answer(Struct, frozen=True):
    """A result with a verdict and, where there are any, rows."""

    def __repr__(self) -> str:
        text: str = late("echotally.output.answers:in_short")(self)
        return text

    def _repr_markdown_(self) -> str:
        text: str = late("echotally.output.answers:in_markdown")(self)
        return text

    def _repr_html_(self) -> str:
        text: str = late("echotally.output.answers:in_html")(self)
        return text
