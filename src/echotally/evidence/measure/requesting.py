"""Requests to a program on this machine in a closed loop: each client asks, waits for the answer, asks again."""

from __future__ import annotations

import ipaddress
import socket
import threading
import time
from collections.abc import Iterator
from statistics import median
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from echotally.errors import BadInput, Problem
from echotally.evidence.measure.machine import this_machine
from echotally.evidence.measure.rows import Level, Run, Tried
from echotally.evidence.measure.trying import Asked, Trying

if TYPE_CHECKING:
    import psutil

#: Rows that are kept of a level.
_ROWS = 200
_SERVER_ERROR = 500


class Answer(Struct, frozen=True):
    """One answered request: when it was asked, how long it took, s, its size, bytes, and whether it went well."""

    asked: float
    took: float
    size: int
    sent: int
    good: bool


def check_here(url: str, elsewhere: bool) -> None:
    """Refuse an address that is not this machine's, unless that is asked for."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise BadInput(Problem("is no address", "--url", value=url, allowed="http://127.0.0.1:PORT/..."))
    if not elsewhere and not _here(parts.hostname):
        allowed = "an address of this machine, such as http://127.0.0.1:8080/; --elsewhere asks other machines, which bear the load"
        raise BadInput(Problem("is not this machine", "--url", value=url, allowed=allowed))


def _here(host: str) -> bool:
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback or ipaddress.ip_address(host) in _own()
    except ValueError:
        return host == socket.gethostname()


def _own() -> set[ipaddress.IPv4Address | ipaddress.IPv6Address]:
    import psutil

    found = set()
    for addresses in psutil.net_if_addrs().values():
        for each in addresses:
            if each.family in (socket.AF_INET, socket.AF_INET6):
                found.add(ipaddress.ip_address(each.address.partition("%")[0]))
    return found


def try_url(url: str, asked: Asked, trying: Trying) -> Tried:
    """Ask with each number of clients: ``runs`` requests a client at the most, and no longer than ``longest_s`` a level.

    A GET, or with events a POST of JSON. Of the process ``pid`` CPU time and memory are told, its children's included.
    Raises ``BadInput`` where it cannot be reached or nothing was answered well.
    """
    machine = replace(this_machine(), answer_s=_empty_request())
    process = _process(trying.pid)
    found, levels, notes = list[Run](), list[Level](), list[str]()
    notes.append("a cold start is not measured with --url, which asks what runs already: --serve starts it")
    for n, k in enumerate(trying.clients):
        used = _cpu(process)
        answers = list(_level(url, asked, k, trying))
        cpu, memory = _more(_cpu(process), used), _memory(process)
        good = [each for each in answers if each.good]
        if not good:
            text = f"answered none of {len(answers):,} requests well"
            raise BadInput(Problem(text, "--url", value=url, allowed="a program that answers with a status below 500"))
        seconds = max(each.asked + each.took for each in answers) - answers[0].asked
        each_cpu = None if cpu is None else cpu / len(answers)
        found += [_run(len(found), answer, each_cpu, memory) for answer in good[:_ROWS]] if n == 0 else []
        took = np.array([answer.took for answer in good])
        p50, p95 = (float(x) for x in np.quantile(took, [0.5, 0.95]))
        levels.append(Level(k, len(good), seconds, float(took.mean()), p50, p95, len(answers) - len(good), cpu))
        if trying.tell:
            trying.tell("measuring", (n + 1) / len(trying.clients))
    if process is None:
        notes.append("CPU and memory are not known without --pid, the process that answers")
    return Tried(url, "url", machine, tuple(found), tuple(levels), notes=tuple(notes))


def _run(before: int, answer: Answer, cpu: float | None, memory: int | None) -> Run:
    # What others beside it take is not its own time: only the lowest level tells of single runs.
    return Run(before + 1, "warm", answer.took, cpu, memory, answer.size, 0.0, 1, answer.sent)


def _level(url: str, asked: Asked, clients: int, trying: Trying) -> Iterator[Answer]:
    """All answers of a level, in the order in which they were asked."""
    gets = [asked.text(asked.batches[0]) if asked.events else None for _ in range(clients)]
    until, found = time.perf_counter() + trying.longest_s, list[list[Answer]]([] for _ in range(clients))
    failed: list[BaseException] = []

    def client(n: int) -> None:
        try:
            for _ in range(trying.runs):
                if failed or time.perf_counter() >= until:
                    return
                found[n].append(_ask(url, gets[n], trying.limit_s))
        except BaseException as error:
            failed.append(error)

    threads = [threading.Thread(target=client, args=(n,), daemon=True) for n in range(clients)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failed:
        raise BadInput(Problem(f"cannot be asked: {_reason(failed[0])}", "--url", value=url)) from failed[0]
    yield from sorted((answer for each in found for answer in each), key=lambda answer: answer.asked)


def _ask(url: str, gets: str | None, limit_s: float) -> Answer:
    """One request on a connection of its own, as from many callers: on one that stays open, each end may wait for the other's
    acknowledgements. Raises the library's error where nobody listens.
    """
    import urllib3

    headers = {"Connection": "close", **({"Content-Type": "application/json"} if gets else {})}
    pool = urllib3.connection_from_url(url, maxsize=1, timeout=urllib3.Timeout(total=limit_s), retries=False)
    sent = len((gets or "").encode())
    asked = time.perf_counter()
    try:
        answer = pool.urlopen("POST" if gets else "GET", _target(url), body=gets, headers=headers, redirect=False)
    except urllib3.exceptions.NewConnectionError:
        raise
    except (urllib3.exceptions.TimeoutError, urllib3.exceptions.ProtocolError):
        return Answer(asked, time.perf_counter() - asked, 0, sent, False)
    finally:
        pool.close()
    took = time.perf_counter() - asked
    return Answer(asked, took, len(answer.data), sent, answer.status < _SERVER_ERROR)


def _target(url: str) -> str:
    """What is asked for at the address."""
    parts = urlsplit(url)
    return (parts.path or "/") + (f"?{parts.query}" if parts.query else "")


def _empty_request() -> float:
    """What a request takes that is answered at once, s: the median of some to a server of our own."""
    from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

    class Empty(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    with ThreadingHTTPServer(("127.0.0.1", 0), Empty) as server:
        threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
        url = f"http://127.0.0.1:{server.server_address[1]}/"
        try:
            return median(_ask(url, None, 5).took for _ in range(9))
        finally:
            server.shutdown()


def _reason(error: BaseException) -> str:
    inner = getattr(error, "reason", error)
    text = str(inner).rpartition(": ")[2] or type(error).__name__
    return text.partition("] ")[2] if text.startswith("[Errno") else text


def _process(pid: int | None) -> psutil.Process | None:
    if pid is None:
        return None
    import psutil

    try:
        return psutil.Process(pid)
    except psutil.Error as error:
        raise BadInput(
            Problem("is no process", "--pid", value=str(pid), allowed="a process on this machine")
        ) from error


def _cpu(process: psutil.Process | None) -> float | None:
    """CPU time so far, ended and running children included, s."""
    if process is None:
        return None
    import psutil

    total = 0.0
    try:
        for each in [process, *process.children(recursive=True)]:
            times = each.cpu_times()
            total += times.user + times.system
        ended = process.cpu_times()
    except psutil.Error as error:
        raise BadInput(Problem("has ended", "--pid", value=str(process.pid))) from error
    return total + float(getattr(ended, "children_user", 0.0)) + float(getattr(ended, "children_system", 0.0))


def _more(after: float | None, before: float | None) -> float | None:
    return None if after is None or before is None else after - before


def _memory(process: psutil.Process | None) -> int | None:
    if process is None:
        return None
    import psutil

    total = 0
    for each in [process, *process.children(recursive=True)]:
        try:
            total += int(each.memory_info().rss)
        except psutil.Error:
            continue
    return total
