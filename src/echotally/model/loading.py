"""Loads a model file: document, overrides, defaults, types, wiring.

The one door into the model: ``load_model`` returns a ``Model`` whose defaults are filled in, or raises
``BadInput`` with every mistake of the file.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from echotally.errors import BadInput, Problem
from echotally.model.addresses import Address, address_parts
from echotally.model.estate import Function, Model
from echotally.model.given import place_of
from echotally.model.overrides import set_value
from echotally.model.reading import Document, hold_kind, read_document, validate
from echotally.model.units import memory_mb
from echotally.model.wiring import wiring_problems

#: A model: its file, its text, its data, or one that was built.
ModelSource = Path | str | Mapping[str, Any] | Model


def load_model(path: ModelSource, sets: Iterable[tuple[str, str]] = ()) -> Model:
    """The checked model of a TOML file, with ``sets`` = (address, value) overrides applied."""
    return load_with_document(path, sets)[0]


def load_with_document(path: ModelSource, sets: Iterable[tuple[str, str]] = ()) -> tuple[Model, Document]:
    """As ``load_model``, and the document, which knows the line of every address."""
    model, document, problems = load_as_far_as_possible(path, sets)
    if problems or model is None:
        raise BadInput(problems)
    return model, document


def load_as_far_as_possible(
    path: ModelSource, sets: Iterable[tuple[str, str]] = ()
) -> tuple[Model | None, Document, list[Problem]]:
    """The model, its document and every mistake found. With mistakes the model is what is left without them, so that
    what it names can be checked as well; None where nothing sensible is left. Raises ``BadInput`` for a file that is
    no TOML, or an override that cannot be placed.
    """
    if isinstance(path, Model):
        if sets := list(sets):
            what = "cannot be changed by address, as it is built already"
            raise BadInput(
                Problem(what, sets[0][0], "the model given", allowed="model_copy, or its data, text or file")
            )
        return path, Document(Path("(built)"), {}, ""), []
    document = read_document(place_of(path))
    hold_kind(document, "echotally-model/1", ("estate", "functions", "triggers", "demand"))
    return checked(document, sets)


def checked(document: Document, sets: Iterable[tuple[str, str]] = ()) -> tuple[Model | None, Document, list[Problem]]:
    """As ``load_as_far_as_possible``, of a document already read; ``sets`` are applied to it."""
    sets = list(sets)
    if sets and document.written is None:
        document.written = copy.deepcopy(document.data)
    for address, value in sets:
        set_value(document, address, value)
    as_written = document.data if document.written is None else document.written
    problems: list[Problem] = []
    data = dict(document.data)
    data["functions"] = _with_defaults(document, as_written, problems)
    # They stand in every function now.
    data.pop("defaults", None)
    model: Model | None
    try:
        model = validate(document, Model, data)
    except BadInput as error:
        problems += error.problems
        # What is left is checked too: wiring mistakes are told together with those of keys.
        model = _without(document, data, error.problems)
    if model is not None:
        problems += wiring_problems(document, model)
    return model, document, _once(problems)


#: What a function needs, put in where its own was refused, to check the rest.
_STAND_IN = {"memory": "128 MB", "run": "1 ms"}


def _without(document: Document, data: dict[str, Any], problems: Iterable[Problem]) -> Model | None:
    """The model without what was refused; None if it cannot stand without it."""
    left = copy.deepcopy(data)
    for problem in problems:
        _drop(left, address_parts(problem.address))
    functions = left.get("functions")
    if isinstance(functions, dict):
        left["functions"] = {n: {**_STAND_IN, **f} if isinstance(f, dict) else f for n, f in functions.items()}
    try:
        return validate(document, Model, left)
    except BadInput:
        return None


def _drop(table: Any, parts: Address) -> None:
    for part in parts[:-1]:
        if isinstance(table, list):
            table = table[int(part)] if part.isdecimal() and int(part) < len(table) else None
        else:
            table = table.get(part) if isinstance(table, dict) else None
    if isinstance(table, dict):
        table.pop(parts[-1], None)


def _once(problems: list[Problem]) -> list[Problem]:
    return list(dict.fromkeys(problems))


def _with_defaults(document: Document, as_written: dict[str, Any], problems: list[Problem]) -> Any:
    """Functions with the ``[defaults]`` filled in; mistakes in the defaults are reported there, once."""
    functions, defaults = document.data.get("functions"), document.data.get("defaults", {})
    if not isinstance(functions, dict):
        return functions
    if not isinstance(defaults, dict):
        problems.append(document.problem(("defaults",), "should be a table", defaults))
        defaults = {}
    good = {key: value for key, value in defaults.items() if _good_default(document, key, value, problems)}
    filled = {}
    for name, table in functions.items():
        if not isinstance(table, dict):
            filled[name] = table
            continue
        filled[name] = {**good, **table}
        # Run times were measured at the memory the file gives, whatever an override makes of it.
        measured = _memory_as_written(as_written, name)
        if "measured_at" not in filled[name] and measured is not None:
            filled[name]["measured_at"] = measured
    return filled


def _memory_as_written(as_written: dict[str, Any], name: str) -> Any:
    function = as_written.get("functions", {}).get(name, {})
    defaults = as_written.get("defaults", {})
    found = function.get("memory") if isinstance(function, dict) else None
    found = found if found is not None or not isinstance(defaults, dict) else defaults.get("memory")
    try:
        memory_mb(found)
    except ValueError:
        return None
    return found


def _good_default(document: Document, key: str, value: object, problems: list[Problem]) -> bool:
    try:
        validate(document, Function, {"memory": "128 MB", "run": "1 ms", key: value}, ("defaults",))
    except BadInput as error:
        problems.extend(error.problems)
        return False
    return True
