"""A model with all the files it reads, to be sent along with work to machines that have none of them."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import BadInput
from echotally.files import LARGEST_PIPE, content_of
from echotally.projection.loaded import Loaded

#: Unpacked shipments of this process, by digest; they go when it ends.
_UNPACKED: dict[str, tempfile.TemporaryDirectory[str]] = {}


class Shipment(Struct, frozen=True, dict=True):
    """Files by their paths from the folder they have in common, and which of them is the model.

    ``home`` is that folder on the machine they come from: errors name the files as they are there.
    """

    model: str
    files: tuple[tuple[str, bytes], ...]
    home: str

    @classmethod
    def of(cls, loaded: Loaded) -> Shipment:
        """The model, its rate cards, traces and samples. What the model names by a whole path must be there already."""
        path = loaded.document.path.absolute()
        named = [*loaded.model.estate.rate_cards, *_files_in(loaded.document.data)]
        beside = [path.parent / name for name in dict.fromkeys(named) if not Path(name).is_absolute()]
        found = [path, *(each for each in beside if each.is_file())]
        home = Path(os.path.commonpath([Path(os.path.normpath(each)).parent for each in found]))
        packed = {os.path.relpath(each, home): content_of(each, LARGEST_PIPE) for each in found}
        return cls(os.path.relpath(path, home), tuple(packed.items()), str(home))

    @cached_property
    def digest(self) -> str:
        """What tells shipments apart."""
        found = hashlib.blake2b(digest_size=16)
        for name, content in self.files:
            found.update(f"{name}\0{len(content)}\0".encode() + content)
        return found.hexdigest()

    @contextmanager
    def unpacked(self) -> Iterator[Path]:
        """The model's path on this machine, unpacked once a process; errors within name the files where they come from."""
        if self.digest not in _UNPACKED:
            folder = tempfile.TemporaryDirectory(prefix="echotally-")
            for name, content in self.files:
                place = Path(folder.name) / name
                place.parent.mkdir(parents=True, exist_ok=True)
                place.write_bytes(content)
            _UNPACKED[self.digest] = folder
        here = _UNPACKED[self.digest].name
        try:
            yield Path(here) / self.model
        except BadInput as error:
            raise BadInput([replace(p, file=p.file.replace(here, self.home)) for p in error.problems]) from error


def _files_in(data: Any) -> Iterator[str]:
    """Names of traces and samples anywhere in a model's data."""
    if isinstance(data, dict):
        for key, value in data.items():
            if key in ("trace", "samples") and isinstance(value, str):
                yield value
            else:
                yield from _files_in(value)
    elif isinstance(data, list):
        for each in data:
            yield from _files_in(each)
