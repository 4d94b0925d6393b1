"""Which column of a log is which: told, or guessed from the headings, with the unit each name ends in."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from difflib import get_close_matches

from msgspec import Struct

from echotally.errors import BadInput, Problem

#: Words that add nothing to what a heading means.
_FILLERS = frozenset({"the", "of", "in", "a", "per"})


class _Meaning(Struct, frozen=True):
    """The headings that mean one of our columns: one of these sets of words, and beside it only of those that may go along.

    Words are in lower case and in the singular; any case style splits into them, and a unit at the end is taken off first.
    """

    words: tuple[frozenset[str], ...]
    along: frozenset[str]

    def rank(self, heading: frozenset[str]) -> int | None:
        """Which of the sets a heading's words hold, the first being the plainest; None where it means something else."""
        for place, core in enumerate(self.words):
            if core <= heading and heading - core <= self.along:
                return place
        return None


def _meaning(words: str, along: str = "") -> _Meaning:
    return _Meaning(tuple(frozenset(each.split("+")) for each in words.split()), frozenset(along.split()))


#: What a run log can tell, by the words of a heading; a heading means the first of these that takes it.
KNOWN: dict[str, _Meaning] = {
    "memory_used": _meaning(
        "memory+used used+memory memory+peak memory+usage memory+consumed mem+used mem+peak ram+used",
        "max maximum peak size used",
    ),
    "memory": _meaning("memory mem ram", "size given limit allocated configured max maximum setting"),
    "cold_start": _meaning(
        "cold+start cold init startup start+up initialisation initialization", "start time duration up"
    ),
    "billed": _meaning("billed billable charged", "time duration run"),
    "run": _meaning(
        "run duration runtime elapsed took run+time time+taken execution+time execution+duration", "time run call total"
    ),
    "time": _meaning(
        "time timestamp start started begin began ts at date when",
        "time at start started date utc local call run begin attempt invocation execution request",
    ),
    "id": _meaning("id uuid", "request call invocation attempt run execution unique"),
    "function": _meaning("function name job service", "name"),
    "environment": _meaning("environment env stage", "name deployment"),
    "outcome": _meaning("outcome status result state success", "code call run request"),
    "events": _meaning("event item batch record message", "size count number batch n handled"),
    "trigger": _meaning("trigger triggered+by", "type kind by"),
    "source": _meaning("source queue topic stream destination", "name event trigger"),
    "host": _meaning("host instance container worker", "name id"),
    "version": _meaning("version release", "function code"),
    "payload": _meaning("payload body+size request+size message+size input+size", "size request message input byte"),
}
REQUIRED = ("time", "run")
#: How alike a heading and a known name are (difflib's ratio) for it to be a likely slip.
_CLOSE = 0.8
_MS = {"ns": 1e-6, "us": 1e-3, "ms": 1.0, "millis": 1.0, "s": 1e3, "sec": 1e3, "seconds": 1e3, "min": 6e4}
_MB = {"b": 2.0**-20, "bytes": 2.0**-20, "kb": 2.0**-10, "mb": 1.0, "gb": 1024.0}
_BYTES = {"b": 1.0, "byte": 1.0, "bytes": 1.0, "kb": 1e3, "mb": 1e6, "gb": 1e9, "kib": 2.0**10, "mib": 2.0**20}
#: Units by name that a heading or a value may carry, as factors to ms or binary MB.
UNITS: dict[str, Mapping[str, float]] = {
    **dict.fromkeys(("run", "cold_start", "billed"), _MS),
    **dict.fromkeys(("memory", "memory_used"), _MB),
    "payload": _BYTES,
}


#: Units assumed where neither heading nor cell names one; others are in ms.
_OTHERWISE = {"memory": "MB", "memory_used": "MB", "payload": "bytes"}


class Mapped(Struct, frozen=True):
    """One of our columns: the heading it is read from, the factor of bare numbers, whether the unit was assumed."""

    ours: str
    theirs: str
    factor: float = 1.0
    unit: str = ""
    assumed: bool = False
    guessed: bool = True

    def __str__(self) -> str:
        unit = f" in {self.unit}" + (", assumed" if self.assumed else "") if self.unit else ""
        return f"{self.ours} from '{self.theirs}'{unit}" + ("" if self.guessed else " (as told)")


def map_columns(headings: Sequence[str], told: Iterable[tuple[str, str]], file: str) -> dict[str, Mapped]:
    """Our columns found among ``headings``; ``told`` are (ours, theirs) pairs that override a guess.

    Raises ``BadInput`` for an unknown name on either side, or if time or run is not found.
    """
    found: dict[str, Mapped] = {}
    problems: list[Problem] = []
    for ours, theirs in told:
        if ours not in KNOWN:
            problems.append(Problem("is not a column we read", "--column", value=ours, allowed=", ".join(KNOWN)))
        elif theirs not in headings:
            known = ", ".join(headings) if any(_ours(h) for h in headings) else ""
            problems.append(Problem("has no such column", file=file, value=theirs, allowed=known))
        else:
            found[ours] = _mapped(ours, theirs, guessed=False)
    taken = {each.theirs for each in found.values()}
    meant = {heading: _ours(heading) for heading in headings if heading not in taken}
    for ours in KNOWN:
        near = [heading for heading, meaning in meant.items() if meaning and meaning[0] == ours]
        if ours not in found and near:
            best = min(near, key=lambda h: (meant[h] or ("", 0), headings.index(h)))
            found[ours] = _mapped(ours, best, guessed=True)
            taken.add(best)
    for ours in REQUIRED:
        if ours not in found and not problems:
            text = f"has no column known as {ours}"
            # Headings none of which we know may be anything, and are not repeated.
            known = f", with one of {', '.join(headings)}" if found else ""
            problems.append(Problem(text, file=file, allowed=f"--column {ours}=HEADING{known}"))
    if problems:
        raise BadInput(problems)
    return found


def nearly_known(headings: Sequence[str], mapped: Mapping[str, Mapped]) -> list[tuple[str, str]]:
    """Headings that are not read although they are close to a name we know: (heading, our column)."""
    taken = {each.theirs for each in mapped.values()}
    names = {
        "_".join(sorted(core, key=str)): ours
        for ours, meaning in KNOWN.items()
        if ours not in mapped
        for core in meaning.words
        if len("".join(core)) > 3
    }
    found = []
    for heading in headings:
        words = "_".join(sorted(_meant(heading)))
        near = get_close_matches(words, names, 1, _CLOSE) if heading not in taken else []
        found += [(heading, names[near[0]])] if near else []
    return found


def _words(heading: str) -> list[str]:
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", heading)
    return [word for word in re.split(r"[^a-z0-9]+", spaced.lower()) if word]


def _meant(heading: str, unit: bool = True) -> frozenset[str]:
    """The words of a heading in the singular, without fillers and, where it ends in one, without its unit."""
    words = _words(heading)
    if unit and len(words) > 1 and any(words[-1] in units for units in UNITS.values()):
        words = words[:-1]
    return frozenset(_singular(word) for word in words) - _FILLERS


def _singular(word: str) -> str:
    return word[:-1] if word.endswith("s") and len(word) > 3 and not word.endswith(("ss", "us")) else word


def _ours(heading: str) -> tuple[str, int] | None:
    """Which of our columns a heading means, and how plainly (0 the plainest)."""
    for words in (_meant(heading), _meant(heading, unit=False)):
        for ours, meaning in KNOWN.items():
            rank = meaning.rank(words)
            if rank is not None:
                return ours, rank
    return None


def _mapped(ours: str, heading: str, guessed: bool) -> Mapped:
    units = UNITS.get(ours)
    if units is None:
        return Mapped(ours, heading, guessed=guessed)
    words = _words(heading)
    if len(words) > 1 and words[-1] in units:
        name = words[-1].upper() if units is _MB else words[-1]
        return Mapped(ours, heading, units[words[-1]], name, guessed=guessed)
    return Mapped(ours, heading, 1.0, _OTHERWISE.get(ours, "ms"), assumed=True, guessed=guessed)
