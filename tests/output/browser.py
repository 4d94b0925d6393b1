"""A real browser without a driver: headless Chromium spoken to over its own protocol (Chrome DevTools Protocol 1.3)."""

from __future__ import annotations

import base64
import json
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

#: What has to be told of a key beside its name, for a page to take it as pressed.
_KEYS = {"ArrowRight": 39, "ArrowLeft": 37, "Home": 36, "End": 35, "Enter": 13, "Tab": 9}


class Browser:
    """One page; ``messages`` are what it and the network said meanwhile."""

    def __init__(self, socket: Any) -> None:
        self._socket, self._number = socket, 0
        self.messages: list[dict[str, Any]] = []

    def call(self, method: str, **params: Any) -> dict[str, Any]:
        """One command of the protocol, answered; a refusal is an ``AssertionError``."""
        self._number += 1
        self._socket.send(json.dumps({"id": self._number, "method": method, "params": params}))
        while True:
            message = json.loads(self._socket.recv())
            if message.get("id") == self._number:
                assert "error" not in message, message
                found: dict[str, Any] = message["result"]
                return found
            self.messages.append(message)

    def open(self, page: Path) -> None:
        for domain in ("Page", "Runtime", "Log", "Network"):
            self.call(f"{domain}.enable")
        self.call("Page.navigate", url=page.as_uri())
        while not any(message["method"] == "Page.loadEventFired" for message in self.messages):
            self.messages.append(json.loads(self._socket.recv()))

    def ask(self, script: str) -> Any:
        """What an expression of the page's own language comes to, as plain data."""
        found = self.call("Runtime.evaluate", expression=script, returnByValue=True)
        assert "exceptionDetails" not in found, found
        return found["result"].get("value")

    def press(self, key: str) -> None:
        """A key, for whatever has the focus."""
        text = "\r" if key == "Enter" else ""
        for kind in ("keyDown", "keyUp"):
            shown = {"text": text} if text and kind == "keyDown" else {}
            self.call("Input.dispatchKeyEvent", type=kind, key=key, code=key, windowsVirtualKeyCode=_KEYS[key], **shown)

    def pdf(self) -> bytes:
        """The page as it prints."""
        return base64.b64decode(self.call("Page.printToPDF")["data"])

    def errors(self) -> list[dict[str, Any]]:
        return [m for m in self.messages if m["method"] == "Runtime.exceptionThrown"] + [
            m for m in self.messages if m["method"] == "Log.entryAdded" and m["params"]["entry"]["level"] == "error"
        ]

    def requests(self) -> list[str]:
        """Addresses asked for beside the page itself and what it holds."""
        asked = [m["params"]["request"]["url"] for m in self.messages if m["method"] == "Network.requestWillBeSent"]
        return [url for url in asked if not url.startswith(("file:", "data:"))]


@contextmanager
def browser() -> Iterator[Browser]:
    """A browser with an empty page; skips where none is installed."""
    websocket = pytest.importorskip("websocket")
    program = shutil.which("chromium") or shutil.which("chromium-browser")
    if program is None:
        pytest.skip("no browser on this machine")
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as profile:
        arguments = ["--headless=new", "--no-sandbox", "--disable-gpu", "--remote-debugging-port=0"]
        arguments += ["--remote-allow-origins=*", f"--user-data-dir={profile}", "about:blank"]
        with subprocess.Popen([program, *arguments], stderr=subprocess.PIPE, text=True) as running:
            try:
                assert running.stderr is not None
                line = next(line for line in running.stderr if "DevTools listening on" in line)
                socket = websocket.create_connection(_page(line.split()[-1]), timeout=60)
                yield Browser(socket)
                socket.close()
            finally:
                running.kill()


def _page(address: str) -> str:
    """Where the one page is spoken to, from where the browser is."""
    import urllib3

    where = address.removeprefix("ws://").partition("/")[0]
    pages = urllib3.PoolManager().request("GET", f"http://{where}/json/list").json()
    found: str = next(page["webSocketDebuggerUrl"] for page in pages if page["type"] == "page")
    return found
