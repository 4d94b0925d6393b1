"""JSON documents of any size, some elements of a list at a time: what an export of a month's spans or metrics is.

Why it exists: one document may be larger than memory, and the lists in it are all that is long. A window of bytes moves
along the file; where its elements end is found by counting brackets in all of it at once, and a library reads them.
"""

from __future__ import annotations

import codecs
import gzip
import json
import re
import zlib
from collections.abc import Iterator, Mapping
from io import BufferedReader
from pathlib import Path
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from echotally.errors import BadInput, Problem
from echotally.files import opened

_PIECE = 2 << 20
#: So much is looked through at once.
_STRIDE = 1 << 17
#: No single value (a span, a line) is longer.
_LONGEST = 64 << 20
_SPACE = re.compile(rb"[ \t\r\n]*")
#: A text, or anything else that is no list and no object.
_PLAIN = re.compile(rb'"(?:[^"\\]|\\.)*"|[^\s,:\[\]{}"]+', re.DOTALL)
#: Lists to stop at by name, and what to look for in their elements; an empty one: elements as they are.
Lists = Mapping[str, Any]


class Window:
    """A file that is read piece by piece: ``data`` from ``at`` on is what has not been used yet."""

    def __init__(self, path: Path) -> None:
        self.name = path.name
        self.inner = opened(path)
        packed = self.inner.read(2) == b"\x1f\x8b"
        self.inner.seek(0)
        self.file = cast(BufferedReader, gzip.GzipFile(fileobj=self.inner) if packed else self.inner)
        self.data, self.at, self.over = b"", 0, False
        self.more()
        if self.data.startswith(codecs.BOM_UTF8):
            self.at = len(codecs.BOM_UTF8)

    def close(self) -> None:
        """Let the file go."""
        self.file.close()
        self.inner.close()

    def more(self) -> bool:
        """Read on; False at the end. Raises ``BadInput`` for a damaged file, or one value too long."""
        if self.over:
            return False
        if len(self.data) - self.at > _LONGEST:
            raise self.problem(f"holds a value longer than {_LONGEST >> 20} MB")
        try:
            # At least as much again as is held, so that a long value is not begun anew for every piece.
            piece = self.file.read(max(_PIECE, len(self.data) - self.at))
        except (OSError, EOFError, zlib.error) as error:
            raise self.problem(f"cannot be unpacked: {error}") from error
        self.over = not piece
        self.data, self.at = self.data[self.at :] + piece, 0
        return not self.over

    def problem(self, what: str) -> BadInput:
        """What is wrong with the file."""
        return BadInput(Problem(what, file=self.name))

    def sign(self) -> bytes:
        """The next sign that is no space, without using it; empty at the end."""
        while True:
            found = _SPACE.match(self.data, self.at)
            self.at = found.end() if found else self.at
            if self.at < len(self.data):
                return self.data[self.at : self.at + 1]
            if not self.more():
                return b""

    def take(self, wanted: bytes) -> None:
        """Use the next sign, which must be ``wanted``."""
        if self.sign() != wanted:
            raise self.problem(f"is no JSON, or ends in the middle: {wanted.decode()} expected")
        self.at += 1

    def value(self) -> Any:
        """The next value, whole. Raises ``BadInput`` where there is none."""
        if self.sign() in (b"{", b"["):
            while (end := self._first_end()) < 0:
                if not self.more():
                    raise self.problem("is no JSON, or ends in the middle")
            return self._read(end)
        while True:
            found = _PLAIN.match(self.data, self.at)
            # A text or number may go on in the next piece.
            if (found is None or found.end() == len(self.data)) and self.more():
                continue
            if found is None:
                raise self.problem("is no JSON, or ends in the middle")
            return self._read(found.end())

    def some(self) -> bytes:
        """Within a list: those of the next elements that stand whole in the window, at least one, as a list's text; empty at the
        list's end.

        Elements that are neither objects nor lists come along with such ones only, or one by one.
        """
        if self.sign() == b",":
            self.at += 1
        if self.sign() in (b"]", b""):
            return b""
        if self.sign() not in (b"{", b"["):
            start = self.value()
            return json.dumps([start]).encode()
        while (end := self._last_end()) < 0:
            if not self.more():
                raise self.problem("is no JSON, or ends in the middle")
        found = b"[" + self.data[self.at : end] + b"]"
        self.at = end
        return found

    def _read(self, end: int) -> Any:
        found = loaded(self.data[self.at : end], self.name)
        self.at = end
        return found

    def _first_end(self) -> int:
        """Where the object or list that begins here ends; -1: not in this window."""
        # Few are long: look at a little first.
        for length in (4_096, len(self.data) - self.at):
            ends = np.flatnonzero(_depths(self.data, self.at, length) == 0)
            if len(ends):
                return self.at + int(ends[0]) + 1
        return -1

    def _last_end(self) -> int:
        """Where the last element of the list that stands whole in the window ends; -1: none does."""
        # A list may be shorter than the window: what lies behind it would be looked at again and again.
        for length in (_STRIDE, len(self.data) - self.at):
            depths = _depths(self.data, self.at, length)
            below = np.flatnonzero(depths < 0)
            if len(below):
                depths = depths[: int(below[0])]
            closing = np.frombuffer(self.data, np.uint8, len(depths), self.at)
            ends = np.flatnonzero((depths == 0) & ((closing == ord("}")) | (closing == ord("]"))))
            if len(ends):
                return self.at + int(ends[-1]) + 1
        return -1


def loaded(text: bytes, name: str) -> Any:
    """What a text of JSON holds; ``BadInput``, naming the file, where it is none."""
    import orjson

    try:
        return orjson.loads(text)
    except orjson.JSONDecodeError:
        pass
    try:
        # Names of other encodings are no reason to lose a log.
        return orjson.loads(text.decode("utf-8", "replace"))
    except orjson.JSONDecodeError as error:
        said = f"is no JSON: {str(error).split(':', maxsplit=1)[0]}"
        raise BadInput(Problem(said, file=name)) from error


def _depths(data: bytes, at: int, length: int) -> NDArray[np.int32]:
    """How many brackets are open after each byte from ``at`` on, those in texts aside."""
    signs = np.frombuffer(data, np.uint8, min(length, len(data) - at), at)
    quotes = signs == ord('"')
    for place in np.flatnonzero(quotes[1:] & (signs[:-1] == ord("\\"))) + 1:
        before = int(place) - 1
        while before >= 0 and signs[before] == ord("\\"):
            before -= 1
        # Behind an odd number of backslashes a quote is part of its text.
        quotes[place] = (place - before) % 2 == 1
    outside = np.bitwise_and(np.cumsum(quotes, dtype=np.int32), 1) == 0
    # 5B and 7B open, 5D and 7D close.
    bracket = signs & 0xDF
    steps = ((bracket == 0x5B) & outside).astype(np.int8) - ((bracket == 0x5D) & outside)
    found: NDArray[np.int32] = np.cumsum(steps, dtype=np.int32)
    return found


def elements(path: Path, lists: Lists) -> Iterator[tuple[dict[str, Any], list[Any]]]:
    """As ``pieces``, read."""
    for beside, text in pieces(path, lists):
        yield beside, loaded(text, path.name)


def pieces(path: Path, lists: Lists) -> Iterator[tuple[dict[str, Any], bytes]]:
    """The elements of the innermost lists named, some at a time, as a list's text, with what stands beside those lists on the way to them, merged.

    ``lists`` is, say, ``{"resourceSpans": {"scopeSpans": {"spans": {}}}}``. The file holds one document, a list of them, or one
    after another (a line each). What stands beside a list counts for its elements also where it follows. Raises ``BadInput``.
    """
    window = Window(path)
    try:
        while (sign := window.sign()) != b"":
            if sign == b"[":
                yield from _list(window, {}, lists)
            elif sign == b"{":
                yield from _object(window, {}, lists)
            else:
                raise window.problem("is no OTLP/JSON: an object or a list expected")
    finally:
        window.close()


def _list(window: Window, beside: dict[str, Any], lists: Lists) -> Iterator[tuple[dict[str, Any], bytes]]:
    window.take(b"[")
    if not lists:
        while found := window.some():
            yield beside, found
    while lists and window.sign() not in (b"]", b""):
        if window.sign() == b"{":
            yield from _object(window, beside, lists)
        else:
            window.value()
        if window.sign() == b",":
            window.at += 1
    window.take(b"]")


def _object(window: Window, beside: dict[str, Any], lists: Lists) -> Iterator[tuple[dict[str, Any], bytes]]:
    window.take(b"{")
    own = dict(beside)
    # Elements wait for what follows them only where nothing has been said of their resource before.
    early: list[tuple[dict[str, Any], bytes]] = []
    while window.sign() not in (b"}", b""):
        name = window.value()
        window.take(b":")
        if isinstance(name, str) and name in lists and window.sign() == b"[":
            for found in _list(window, own, lists[name]):
                if "resource" in found[0]:
                    yield found
                else:
                    early.append(found)
        else:
            own[str(name)] = window.value()
        if window.sign() == b",":
            window.at += 1
    window.take(b"}")
    for held, some in early:
        yield {**own, **held}, some
