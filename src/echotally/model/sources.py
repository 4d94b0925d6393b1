"""The kinds of source, and how a model names one: ``queues.alerts``.

Why it exists: what a kind may be fed by, which keys a trigger on it takes and which it ignores stand in one table, and an
address is taken apart in one place. A new kind of source begins with a row here.
"""

from __future__ import annotations

from difflib import get_close_matches
from enum import StrEnum
from typing import Any

from msgspec import Struct
from pydantic import GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic_core import CoreSchema, core_schema

from echotally.errors import Refused
from echotally.model.addresses import dotted


class SourceKind(StrEnum):
    """A kind of source, by the name of its table in the model. The order is that of ``engine.codes``."""

    SCHEDULES = "schedules"
    QUEUES = "queues"
    TOPICS = "topics"
    STREAMS = "streams"
    ENDPOINTS = "endpoints"
    FOLDERS = "folders"

    @property
    def traits(self) -> Traits:
        """What this kind takes and gives."""
        return _TRAITS[self]


#: Keys of a trigger whose events are pushed one at a time.
_PUSHED = frozenset({"tries", "dead_letter"})
_BATCHED = frozenset({"batch", "batch_wait", "readers", "on_failure"})


class Traits(Struct, frozen=True):
    """What a kind of source takes and gives.

    ``demand``: demand may put events in; ``inside``: functions may. ``letters``: it takes dead letters and a topic's feeds.
    ``trigger_keys`` are the keys of a trigger that have an effect; ``batched``: its calls hold batches; ``pushed``: its events are
    handed over one by one, and what finds no room comes again (rule 4.3); ``shared_out``: each of its triggers gets every event, so that its cost is shared. ``readers`` and ``tries`` are a trigger's where it gives none
    (``tries`` None: without end).
    """

    demand: bool = True
    inside: bool = True
    letters: bool = False
    trigger_keys: frozenset[str] = _PUSHED
    batched: bool = False
    pushed: bool = False
    shared_out: bool = False
    readers: int = 1
    tries: int | None = 3


_TRAITS = {
    SourceKind.SCHEDULES: Traits(demand=False, inside=False, pushed=True),
    SourceKind.QUEUES: Traits(letters=True, trigger_keys=_BATCHED, batched=True, readers=100, tries=None),
    SourceKind.TOPICS: Traits(trigger_keys=_PUSHED | {"share"}, pushed=True, shared_out=True),
    SourceKind.STREAMS: Traits(trigger_keys=_BATCHED | _PUSHED, batched=True, shared_out=True, tries=None),
    SourceKind.ENDPOINTS: Traits(trigger_keys=frozenset(), tries=None),
    SourceKind.FOLDERS: Traits(pushed=True),
}


class SourceRef(str):
    """The address of a source, ``kind.name``: a text that knows its two parts."""

    __slots__ = ()

    @classmethod
    def of(cls, kind: SourceKind, name: str) -> SourceRef:
        """The address of a source by kind and name."""
        return cls(f"{kind}.{name}")

    @property
    def kind(self) -> SourceKind:
        """The kind of source; raises ``ValueError`` for a text that names none."""
        return SourceKind(self.partition(".")[0])

    @property
    def name(self) -> str:
        """The name of the source within its kind."""
        return self.partition(".")[2]

    def at(self, *keys: str) -> str:
        """Where it, or one of its keys, stands in the model: as an address is typed."""
        return dotted((*self.partition(".")[::2], *keys))

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_after_validator_function(cls._read, core_schema.str_schema())

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        return {"type": "string", "pattern": rf"^({'|'.join(_IN_MESSAGES)})\..+$"}

    @classmethod
    def _read(cls, text: str) -> SourceRef:
        kind, _, name = text.partition(".")
        if name and kind in _IN_MESSAGES:
            return cls(text)
        near = get_close_matches(kind, _IN_MESSAGES, 1)
        meant = f"; did you mean {near[0]}.{name or 'NAME'}?" if near else ""
        raise Refused(f"names no source{meant}", ", ".join(f"{each}.NAME" for each in _IN_MESSAGES))


#: The order in which errors name the kinds that may stand somewhere: those people use most first.
_IN_MESSAGES = sorted(SourceKind, key=lambda kind: kind is SourceKind.SCHEDULES)


def kinds_that(trait: str) -> list[SourceKind]:
    """The kinds with a trait of ``Traits`` that holds or does not, in the order errors name them."""
    return [kind for kind in _IN_MESSAGES if getattr(kind.traits, trait)]
