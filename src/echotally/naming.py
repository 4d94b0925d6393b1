"""Names that people give: found among those there are, by address as well, or refused with the nearest."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from echotally.errors import BadInput, Problem

#: Names listed in a refusal at most.
_LISTED = 30


def no_such(what: str, address: str, value: str, known: Iterable[str], *, file: str = "") -> Problem:
    """The mistake of a name that there is not: the nearest one, and those there are."""
    names = list(known)
    near = nearest(value, names)
    listed = ", ".join(names[:_LISTED]) + (f" and {len(names) - _LISTED} more" if len(names) > _LISTED else "")
    hint = f"there is no such {what}" + (f"; did you mean {near}?" if near else "")
    return Problem(hint, address, file, value=value, allowed=listed or f"none: there is no {what}")


def nearest(value: str, known: Iterable[str]) -> str:
    """The name that was probably meant: one that ends alike, or is spelt alike; empty where none is near."""
    from difflib import get_close_matches

    names = list(known)
    ends = [name for name in names if name.rpartition(".")[2] == value]
    near = ends if len(ends) == 1 else get_close_matches(value, names, 1)
    return near[0] if near else ""


def with_environment(text: str, known: Collection[str], table: str) -> tuple[str, str]:
    """What ``NAME[@ENVIRONMENT]`` says, the environment empty where none is: names may hold the sign as well.

    ``known``: the names there are, which may be written with their ``table`` before them.
    """
    before, _, behind = text.rpartition("@")
    for name, environment in ((text, ""), (before, behind)):
        if name in known or name.removeprefix(f"{table}.") in known:
            return name, environment
    name, _, environment = text.partition("@")
    return name, environment


def known_name(what: str, address: str, value: str, known: Iterable[str], table: str = "") -> str:
    """The name that ``value`` says, as it is or with its ``table`` before it (``queues.sms``). Raises ``BadInput``."""
    names = list(known)
    if value in names:
        return value
    bare = value.removeprefix(f"{table}.").strip('"') if table else value
    if bare in names:
        return bare
    raise BadInput(no_such(what, address, value, names))
