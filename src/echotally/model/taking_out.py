"""What goes with a thing that is taken out of a model: the wiring that points to it.

Why it exists: without its triggers a schedule could not be taken out with one ``--set``, and an estate that only stands there would
have no bill.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from echotally.model.addresses import Address, dotted
from echotally.model.sources import SourceKind, SourceRef

#: Keys of tables that name a source, and lists whose items do.
_KEYS = (("queues", "dead_letter"),)
_LISTS = (("functions", "emits", "into"), ("functions", "asks", "to"), ("topics", "feeds", "into"))


def taken_along(data: dict[str, Any], parts: Address) -> list[str]:
    """Take out whatever points to what stands at ``parts`` (a source, function, environment or outside service, or a whole table
    of them); returns a line for each thing taken out.
    """
    table = parts[0]
    if table == "triggers" and len(parts) <= 2:
        return list(_unanswered(data, _endpoints_of(data, None if len(parts) == 1 else parts[1])))
    if len(parts) > 2 or not isinstance(data.get(table), dict):
        return []
    names = list(data[table]) if len(parts) == 1 else [parts[1]]
    found: list[str] = []
    for name in names:
        if table in set(SourceKind):
            found += _of_source(data, SourceRef(f"{table}.{name}"))
        elif table == "functions":
            answered = {t.get("from") for t in _items(data, "triggers") if t.get("to") == name}
            found += _from_array(data, "triggers", lambda t, name=name: t.get("to") == name, _trigger_words)  # type: ignore[misc]
            found += _unanswered(data, answered)
            found += _from_incidents(data, "functions", name)
        elif table == "environments":
            found += _from_incidents(data, "environments", name)
        elif table == "outside":
            found += _from_lists(data, "functions", "uses", "what", name)
    return found


def _of_source(data: dict[str, Any], source: str) -> Iterator[str]:
    for name, demand in list(_tables(data, "demand")):
        if demand.get("into") == source:
            del data["demand"][name]
            yield dotted(("demand", name))
    yield from _from_array(data, "triggers", lambda trigger: trigger.get("from") == source, _trigger_words)
    for table, key in _KEYS:
        for name, each in _tables(data, table):
            if each.get(key) == source:
                del each[key]
                yield dotted((table, name, key))
    for n, trigger in enumerate(data.get("triggers", ())):
        if isinstance(trigger, dict) and trigger.get("dead_letter") == source:
            del trigger["dead_letter"]
            yield f"triggers.{n}.dead_letter"
    for table, key, link in _LISTS:
        yield from _from_lists(data, table, key, link, source)


def _items(data: dict[str, Any], key: str) -> list[dict[str, Any]]:
    found = data.get(key)
    return [item for item in found if isinstance(item, dict)] if isinstance(found, list) else []


def _endpoints_of(data: dict[str, Any], number: str | None) -> set[Any]:
    """Where a trigger that goes leads from, or every one."""
    triggers = _items(data, "triggers")
    if number is None:
        return {trigger.get("from") for trigger in triggers}
    return {triggers[int(number)].get("from")} if number.isdecimal() and int(number) < len(triggers) else set()


def _unanswered(data: dict[str, Any], sources: set[Any]) -> Iterator[str]:
    """What asks an endpoint that nobody answers any more."""
    for source in sorted(source for source in sources if str(source).startswith("endpoints.")):
        yield from _from_lists(data, "functions", "asks", "to", source)


def _tables(data: dict[str, Any], table: str) -> Iterator[tuple[str, dict[str, Any]]]:
    found = data.get(table)
    yield from ((name, t) for name, t in (found.items() if isinstance(found, dict) else ()) if isinstance(t, dict))


def _trigger_words(trigger: dict[str, Any]) -> str:
    return f'triggers."{trigger.get("from")}>{trigger.get("to")}"'


def _from_array(
    data: dict[str, Any], key: str, goes: Callable[[dict[str, Any]], bool], words: Callable[[dict[str, Any]], str]
) -> Iterator[str]:
    items = data.get(key)
    if isinstance(items, list):
        out = [item for item in items if isinstance(item, dict) and goes(item)]
        if out:
            data[key] = [item for item in items if item not in out]
        yield from map(words, out)


def _from_lists(data: dict[str, Any], table: str, key: str, link: str, name: str) -> Iterator[str]:
    for owner, each in _tables(data, table):
        items = each.get(key)
        if isinstance(items, list) and any(isinstance(i, dict) and i.get(link) == name for i in items):
            each[key] = [i for i in items if not (isinstance(i, dict) and i.get(link) == name)]
            yield f"{dotted((table, owner, key))} ({name})"


def _from_incidents(data: dict[str, Any], key: str, name: str) -> Iterator[str]:
    """An incident of one thing goes with it; of several it keeps the others."""
    incidents = data.get("incidents")
    for incident in list(incidents) if isinstance(incidents, list) else ():
        names = incident.get(key) if isinstance(incident, dict) else None
        if isinstance(names, list) and name in names:
            incident[key] = [other for other in names if other != name]
            if not incident[key]:
                data["incidents"] = [other for other in data["incidents"] if other is not incident]
            yield f'incidents."{incident.get("name")}" ({name})'
