"""Finds the line on which each address of a TOML file is written.

Why it exists: the standard parser checks the file but forgets where things stood, and every error
must name its line. This scanner runs only on text that already parsed, so it follows brackets and
strings and nothing more.
"""

from __future__ import annotations

import re

_HEADER = re.compile(r"^\s*(\[\[?)\s*(.+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""^\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+))*)\s*=""")
_PART = re.compile(r""""([^"]*)"|'([^']*)'|([A-Za-z0-9_-]+)""")
_STRING = re.compile(r'"""|\'\'\'|"(?:\\.|[^"\\])*"|\'[^\']*\'|#.*|[\[\]{}]')


def _parts(dotted: str) -> tuple[str, ...]:
    return tuple(a or b or c for a, b, c in _PART.findall(dotted))


class _Scanner:
    def __init__(self) -> None:
        self.lines: dict[tuple[str, ...], int] = {}
        self.table: tuple[str, ...] = ()
        self.counts: dict[tuple[str, ...], int] = {}
        self.depth = 0
        self.fence = ""

    def _resolve(self, parts: tuple[str, ...]) -> tuple[str, ...]:
        """The address of a header below arrays of tables: the newest element of each array."""
        address: tuple[str, ...] = ()
        for part in parts:
            address += (part,)
            if address in self.counts:
                address += (str(self.counts[address]),)
        return address

    def _header(self, brackets: str, dotted: str, number: int) -> None:
        parts = _parts(dotted)
        if brackets == "[[":
            array = self._resolve(parts[:-1]) + parts[-1:]
            self.counts[array] = self.counts.get(array, -1) + 1
            self.table = (*array, str(self.counts[array]))
        else:
            self.table = self._resolve(parts)
        self.lines.setdefault(self.table, number)

    def _follow(self, text: str) -> None:
        """Track brackets and multi-line strings so that continuation lines are not taken for keys."""
        place = 0
        while place < len(text):
            if self.fence:
                end = text.find(self.fence, place)
                if end < 0:
                    return
                place, self.fence = end + 3, ""
                continue
            match = _STRING.search(text, place)
            if match is None:
                return
            token, place = match.group(), match.end()
            if token in ('"""', "'''"):
                self.fence = token
            elif token in "[{":
                self.depth += 1
            elif token in "]}":
                self.depth -= 1

    def feed(self, number: int, text: str) -> None:
        if self.depth == 0 and not self.fence:
            header, key = _HEADER.match(text), _KEY.match(text)
            if header and not key:
                self._header(header.group(1), header.group(2), number)
                return
            if key:
                self.lines.setdefault(self.table + _parts(key.group(1)), number)
                text = text[key.end() :]
        self._follow(text)


def key_lines(text: str) -> dict[tuple[str, ...], int]:
    """Line numbers (from 1) of every table header and key; array elements have their index as a part."""
    scanner = _Scanner()
    for number, line in enumerate(text.splitlines(), 1):
        scanner.feed(number, line)
    return scanner.lines


def line_of(lines: dict[tuple[str, ...], int], address: tuple[str, ...]) -> int | None:
    """The line of an address, or of the nearest thing around it that stands on a line of its own."""
    while address:
        if address in lines:
            return lines[address]
        address = address[:-1]
    return None
