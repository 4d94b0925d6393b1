"""An excerpt of a model file: some of its functions and sources, with whatever belongs to them, as a file of its own.

Why it exists: of a change to one function of a thousand, only what hangs together with it has to be loaded and played.
"""

from __future__ import annotations

import copy
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import Any

from echotally.model.addresses import dotted, parts_in
from echotally.model.reading import Document
from echotally.model.sources import SourceKind

#: Tables that belong to the whole file.
_WHOLE = ("schema", "estate", "defaults", "environments", "targets", "exchange", "outside")


class Excerpt:
    """Functions and sources of a checked document, which must refer to nothing outside."""

    def __init__(self, document: Document, names: Collection[str]) -> None:
        self._document = document
        # Triggers and incidents are named by their number, which is another one here.
        self._numbers = {
            "triggers": [n for n, trigger in enumerate(document.data["triggers"]) if trigger["to"] in names],
            "incidents": [n for n, i in enumerate(document.data.get("incidents", ())) if _of_some(i, names)],
        }
        self._data = self._pruned(document.data, names)
        # Values of functions that are not here, of which a choice may have pinned a thousand, are nobody's.
        self._changed = {
            address: text
            for address, text in document.changed.items()
            if address[0] != "functions" or len(address) < 2 or address[1] in names
        }
        # What was measured where is read from what was written, so that the excerpt keeps that as well.
        self._written = None if document.written is None else self._pruned(document.written, names)

    def document(self) -> Document:
        """A document of its own, which may be changed."""
        data, found = copy.deepcopy(self._data), self._document
        return Document(
            Path(found.path),
            data,
            found.text,
            dict(self._changed),
            set(found.made),
            self._written or self._data,
            list(found.card_sets),
        )

    def sets(self, sets: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
        """Overrides of the whole file as overrides of the excerpt."""
        return [(self._address(address), value) for address, value in sets]

    def _address(self, address: str) -> str:
        parts = list(parts_in(self._document.data, address))
        if parts[0] in self._numbers and len(parts) > 1 and parts[1].isdecimal():
            parts[1] = str(self._numbers[parts[0]].index(int(parts[1])))
        return dotted(tuple(parts))

    def _pruned(self, data: dict[str, Any], names: Collection[str]) -> dict[str, Any]:
        found = {key: data[key] for key in _WHOLE if key in data}
        found["functions"] = {name: table for name, table in data["functions"].items() if name in names}
        for kind in SourceKind:
            if kind in data:
                # Of thousands of sources a few are asked for: a text is as good as an address, and sooner made.
                found[kind] = {name: t for name, t in data[kind].items() if f"{kind}.{name}" in names}
        found["demand"] = {name: t for name, t in data.get("demand", {}).items() if t.get("into") in names}
        found["triggers"] = [trigger for trigger in data["triggers"] if trigger["to"] in names]
        if "incidents" in data:
            found["incidents"] = [
                _among(incident, names) for incident in data["incidents"] if _of_some(incident, names)
            ]
        return found


def _of_some(incident: dict[str, Any], names: Collection[str]) -> bool:
    """Whether an incident is about one of the functions, or about all there are."""
    return "functions" not in incident or any(name in names for name in incident["functions"])


def _among(incident: dict[str, Any], names: Collection[str]) -> dict[str, Any]:
    if "functions" not in incident:
        return incident
    return {**incident, "functions": [name for name in incident["functions"] if name in names]}
