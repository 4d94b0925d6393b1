"""The exception tree: one root, each class holds facts and builds its text in one place.

Why it exists: every layer reports trouble the same way, and one translator (``echotally.cli.failing``)
turns classes into exit codes.
"""

from __future__ import annotations

import re

from msgspec import Struct

#: What is no plain ASCII may be a sign that acts; few texts have any.
_SUSPECT = re.compile(r"[^\x20-\x7e\n\t]+")


def safe(text: str) -> str:
    """Text from outside, with control, direction and line signs made visible: nothing in it can act on a terminal or a log."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else _numbered(c) for c in text)


def safe_lines(text: str) -> str:
    """As ``safe``, of a whole text: its line ends and tabs stay. In JSON, what becomes visible is still the same string."""
    return _SUSPECT.sub(lambda found: safe(found[0]), text)


def _numbered(sign: str) -> str:
    """A sign by its number, in the spelling of JSON: beyond 16 bits as two halves."""
    code = ord(sign)
    if code < 0x10000:
        return f"\\u{code:04x}"
    return f"\\u{0xD800 + ((code - 0x10000) >> 10):04x}\\u{0xDC00 + ((code - 0x10000) & 0x3FF):04x}"


class Problem(Struct, frozen=True):
    """One mistake in something the analyst wrote: where it is, what was found, what is allowed."""

    message: str
    address: str = ""
    file: str = ""
    line: int | None = None
    value: str = ""
    allowed: str = ""

    def __str__(self) -> str:
        place = self.file + (f":{self.line}" if self.line else "")
        return safe(": ".join(part for part in (place, self.address, self.said()) if part))

    def said(self) -> str:
        """What is wrong, what was found and what is allowed, without the place."""
        text = self.message + (f" (found {self.value})" if self.value else "")
        return f"{text}. Allowed: {self.allowed}" if self.allowed else text


class Refused(ValueError):
    """A value that cannot be used: what is wrong with it, and what is allowed. Whoever knows its place makes it a ``Problem``.

    It is a ``ValueError``, so that validators of keys may raise it.
    """

    def __init__(self, message: str, allowed: str = "") -> None:
        super().__init__(message)
        self.message, self.allowed = message, allowed

    def __str__(self) -> str:
        return f"{self.message}. Allowed: {self.allowed}" if self.allowed else self.message

    def at(self, address: str, value: str) -> Problem:
        """The mistake at its place."""
        return Problem(self.message, address, value=value, allowed=self.allowed)


class EchoTallyError(Exception):
    """Root of every error this package raises on purpose."""


class BadInput(EchoTallyError):
    """What the analyst gave cannot be used. Holds every problem found, in file order."""

    def __init__(self, problems: list[Problem] | Problem | str) -> None:
        if isinstance(problems, str):
            problems = [Problem(problems)]
        elif isinstance(problems, Problem):
            problems = [problems]
        self.problems = tuple(sorted(problems, key=lambda p: (p.file, p.line or 0)))
        super().__init__("\n".join(str(problem) for problem in self.problems))


class TooLarge(BadInput):
    """What is asked for would play more events than may be played, even as a sample."""


class Crowded(TooLarge):
    """More events would wait at once than are held one by one."""


class OurFault(EchoTallyError):
    """A sum that must hold does not: the program is wrong, not the model."""


class Stopped(EchoTallyError):
    """The analyst interrupted a run."""
