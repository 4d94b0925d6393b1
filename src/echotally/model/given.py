"""A model that is handed over as data or text rather than as a file: it becomes one, so that whatever reads models reads it.

Why a file: the processes that play points of a study load the model anew, and errors name a line. It lies in a folder of its own
that goes with the process; files that it names (cards, traces, samples) are those beside the folder one is in.
"""

from __future__ import annotations

import atexit
import hashlib
import shutil
import tempfile
import tomllib
from collections.abc import Mapping
from datetime import date, datetime
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any

from echotally.errors import BadInput, Problem

#: What names a file, and so is looked for where one is.
_FILES = ("trace", "samples")


def place_of(given: Path | str | Mapping[str, Any]) -> Path:
    """The file of a model: its path, or one written for a mapping or for the text of a model. Raises ``BadInput``."""
    if isinstance(given, Mapping):
        return _written(_plain(given, "the model given"))
    if isinstance(given, Path):
        return given
    if "\n" in given:
        try:
            data = tomllib.loads(given)
        except (tomllib.TOMLDecodeError, RecursionError) as error:
            raise BadInput(Problem(f"is not TOML: {error}", file="the text given")) from error
        return _written(data, given)
    return Path(given)


def _written(data: dict[str, Any], text: str = "") -> Path:
    import tomlkit

    found = _with_places(data)
    # A text stays as it is where nothing in it has to be found elsewhere, so that its lines are those of the text.
    content = text if text and found == data else tomlkit.dumps(found)
    folder = _home() / hashlib.blake2b(content.encode(), digest_size=8).hexdigest()
    path = folder / "model.toml"
    if not path.is_file():
        folder.mkdir(exist_ok=True)
        path.write_text(content, encoding="utf-8")
    return path


@cache
def _home() -> Path:
    home = Path(tempfile.mkdtemp(prefix="echotally-given-"))
    atexit.register(shutil.rmtree, home, ignore_errors=True)
    return home


def _plain(value: Any, address: str) -> Any:
    """A value as TOML has it; what is None is left out."""
    if isinstance(value, Mapping):
        return {str(key): _plain(inner, f"{address}.{key}") for key, inner in value.items() if inner is not None}
    if isinstance(value, list | tuple):
        return [_plain(inner, address) for inner in value if inner is not None]
    if isinstance(value, Path | Decimal):
        return str(value)
    if isinstance(value, bool | int | float | str | date | datetime):
        return value
    raise BadInput(
        Problem("is no value of a model", address, value=type(value).__name__, allowed="texts, numbers, lists, dicts")
    )


def _with_places(data: Any) -> Any:
    """The same data with the files it names by their whole paths."""
    if isinstance(data, list):
        return [_with_places(each) for each in data]
    if not isinstance(data, dict):
        return data
    return {key: _place(key, value) for key, value in data.items()}


def _place(key: str, value: Any) -> Any:
    if key == "rate_cards" and isinstance(value, list):
        return [str(Path(each).absolute()) if isinstance(each, str) else each for each in value]
    if key in _FILES and isinstance(value, str):
        return str(Path(value).absolute())
    return _with_places(value)
