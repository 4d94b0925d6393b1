"""Request counts from monitoring: OpenMetrics or Prometheus text, and the Prometheus range query's JSON, as a trace.

Counters are turned into counts by their increase from sample to sample; one that falls has begun anew.
"""

from __future__ import annotations

import base64
import itertools
import json
import os
from collections import defaultdict
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from echotally.errors import BadInput, Problem
from echotally.evidence.logs.otlp import begins_with
from echotally.evidence.logs.text_files import hold_against, unpacked_text
from echotally.evidence.telemetry.otlp_metrics import otlp_samples
from echotally.files import text_of, unreadable

if TYPE_CHECKING:
    from urllib.error import HTTPError

FORMS = "OpenMetrics text with timestamps, the JSON of a range query, or OTLP/JSON of metrics; each also gzipped"
_PATIENCE_S = 30
#: The year 2200, and a count no monitoring reaches; not-a-numbers compare false and so are none as well.
_LATEST, _LARGEST = 7_258_118_400.0, 1e15
_LARGEST_ANSWER = 256 * 2**20
Samples = dict[str, list[tuple[float, float]]]


class TraceFound(Struct, frozen=True):
    """(time in s since 1970, count up to the next row), the series summed, and what was odd, in words."""

    rows: tuple[tuple[float, int], ...]
    series: tuple[str, ...]
    notes: tuple[str, ...]

    @property
    def total(self) -> int:
        """Events of the whole trace."""
        return sum(count for _, count in self.rows)

    def csv(self) -> str:
        """The trace as the model reads it: ``time,count``."""
        lines = [f"{datetime.fromtimestamp(at, UTC).isoformat(timespec='seconds')},{count}" for at, count in self.rows]
        return "\n".join(["time,count", *lines]) + "\n"


def trace_of_files(paths: Iterable[Path], metric: str | None = None, rates: bool | None = None) -> TraceFound:
    """A trace of metric files; ``metric`` picks one by name, ``rates``: values are events per second, not counts.

    Left out, a metric whose name ends in ``_total``, or that never falls, is a counter. Raises ``BadInput``.
    """
    samples: Samples = defaultdict(list)
    for path in paths:
        for name, values in samples_of_file(path).items():
            samples[name] += values
    return _trace(samples, metric, rates)


def samples_of_file(path: Path) -> Samples:
    """The samples of a metrics file by series, (time in s since 1970, value); raises ``BadInput``."""
    if str(path) != "-" and begins_with(path, b'"resourceMetrics"'):
        samples = otlp_samples(path)
        if not samples:
            raise BadInput(Problem("holds no sum and no histogram", file=path.name, allowed=FORMS))
        return samples
    text = _text(path)
    return _range_answer(text, path.name) if text.lstrip().startswith('{"') else _exposition(text, path.name)


def _text(path: Path) -> str:
    if str(path) != "-":
        hold_against(path, FORMS)
    try:
        if path.suffix == ".gz":
            return unpacked_text(path, _LARGEST_ANSWER)
        return text_of(path, _LARGEST_ANSWER)
    except OSError as error:
        raise unreadable(path, error, FORMS) from error


def trace_of_server(
    url: str, query: str, start: datetime, end: datetime, step_s: int, rates: bool | None = None
) -> TraceFound:
    """As ``trace_of_files``, of a server's answer to a range query (its HTTP interface, version 1)."""
    return _trace(_asked(url, query, start.timestamp(), end.timestamp(), step_s), None, rates)


def samples_of_server(url: str, query: str, start_s: float, end_s: float) -> Samples:
    """The samples of a range query by series, an hour apart; none where the server has no such series. Raises ``BadInput``."""
    try:
        return _asked(url, query, start_s, end_s, 3_600)
    except BadInput as error:
        if "holds no series" in str(error):
            return {}
        raise


#: Credentials of a monitoring server come from the environment, never from the command line: a token, or a name and a word.
TOKEN, LOGIN = "ECHOTALLY_METRICS_TOKEN", "ECHOTALLY_METRICS_LOGIN"


def _headers() -> dict[str, str]:
    token, login = os.environ.get(TOKEN), os.environ.get(LOGIN)
    if token:
        return {"Authorization": f"Bearer {token}"}
    return {"Authorization": "Basic " + base64.b64encode(login.encode()).decode()} if login else {}


def _asked(url: str, query: str, start_s: float, end_s: float, step_s: int) -> Samples:
    from urllib.error import HTTPError, URLError
    from urllib.parse import urlencode
    from urllib.request import Request, urlopen

    if not url.startswith(("http://", "https://")):
        raise BadInput(
            Problem("is not the address of a server", "--url", value=url, allowed="http://... or https://...")
        )
    wanted = {"query": query, "start": start_s, "end": end_s, "step": step_s}
    address = f"{url.rstrip('/')}/api/v1/query_range?{urlencode(wanted)}"
    try:
        # No more than it may be: a server that never ends fills no memory.
        with urlopen(Request(address, headers=_headers()), timeout=_PATIENCE_S) as answer:
            text = answer.read(_LARGEST_ANSWER).decode("utf-8", "replace")
    except HTTPError as error:
        with error:
            raise BadInput(_refusal(error, url)) from error
    except (URLError, OSError, ValueError) as error:
        raise BadInput(Problem(f"did not answer: {getattr(error, 'reason', error)}", "--url", value=url)) from error
    return _range_answer(text, url)


def _refusal(error: HTTPError, url: str) -> Problem:
    """What a server said when it refused: its own words, and what may help."""
    said = error.read(4_096).decode("utf-8", "replace")
    try:
        found = json.loads(said)
        said = str(found.get("error") or found.get("message") or said) if isinstance(found, dict) else said
    except ValueError:
        # A page meant for browsers says nothing that a line of text could.
        said = error.reason if "<" in said or not said.strip() else said
    allowed = f"credentials in the environment: {TOKEN}, or {LOGIN} as name:word" if error.code in (401, 403) else ""
    return Problem(f"answered {error.code}: {' '.join(said.split())[:300]}", "--url", value=url, allowed=allowed)


def _range_answer(text: str, name: str) -> Samples:
    try:
        found = json.loads(text)
        series = found["data"]["result"]
        values = {
            _label(each["metric"], n): [(float(t), float(v)) for t, v in each["values"]]
            for n, each in enumerate(series)
        }
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError) as error:
        raise BadInput(Problem("is not the answer of a range query", file=name, allowed=FORMS)) from error
    if not values:
        raise BadInput(Problem("holds no series", file=name))
    return values


def _label(metric: Any, number: int) -> str:
    labels = ",".join(f"{key}={value}" for key, value in sorted(metric.items()) if key != "__name__")
    return str(metric.get("__name__", f"series {number + 1}")) + (f"{{{labels}}}" if labels else "")


def _exposition(text: str, name: str) -> Samples:
    from prometheus_client.openmetrics.parser import text_string_to_metric_families as openmetrics
    from prometheus_client.parser import text_string_to_metric_families as prometheus

    samples: Samples = defaultdict(list)
    # OpenMetrics ends with a mark; what lacks it is the older text.
    strict = "# EOF" in text
    try:
        for family in (openmetrics if strict else prometheus)(text):
            for sample in family.samples:
                if sample.timestamp is not None:
                    # Prometheus text counts milliseconds, OpenMetrics seconds (its specification, section "Timestamps").
                    at = float(sample.timestamp)
                    samples[_label({"__name__": sample.name, **sample.labels}, 0)].append((at, float(sample.value)))
    except (ValueError, KeyError, TypeError, IndexError, OverflowError) as error:
        raise BadInput(Problem(f"cannot be read: {error}", file=name, allowed=FORMS)) from error
    if not samples:
        raise BadInput(Problem("holds no sample with a timestamp", file=name, allowed=FORMS))
    return samples


def _trace(samples: Samples, metric: str | None, rates: bool | None) -> TraceFound:
    bases = list(dict.fromkeys(name.split("{")[0] for name in samples))
    if metric is not None and metric not in bases:
        raise BadInput(Problem("is not among the metrics", "--metric", value=metric, allowed=", ".join(bases[:20])))
    if metric is None and len(bases) > 1:
        raise BadInput(Problem("there are several metrics", "--metric", allowed=", ".join(bases[:20])))
    chosen = {name: sorted(set(v)) for name, v in samples.items() if metric is None or name.split("{")[0] == metric}
    notes: list[str] = []
    counts: dict[float, float] = defaultdict(float)
    for name, values in chosen.items():
        plain = [(at, value) for at, value in values if 0 <= at <= _LATEST and abs(value) <= _LARGEST]
        if len(plain) < len(values):
            notes.append(f"{name}: {len(values) - len(plain)} sample(s) that are no number or no time left out")
        if len(plain) < 2:
            notes.append(f"{name}: fewer than two samples, left out")
            continue
        counter = _is_counter(name, plain) if rates is None else not rates
        for at, count in _increases(name, plain, notes) if counter else _integrals(plain):
            counts[at] += count
        if rates is None:
            notes.append(f"{name}: read as {'a counter' if counter else 'events per second'}")
    if not counts:
        raise BadInput(Problem("no series has two samples or more"))
    return TraceFound(tuple(_whole(sorted(counts.items()))), tuple(chosen), tuple(notes))


def _is_counter(name: str, values: list[tuple[float, float]]) -> bool:
    # A rate falls again within a day; what never falls and ends higher has been counted up.
    rising = all(b >= a for (_, a), (_, b) in itertools.pairwise(values))
    return name.split("{", maxsplit=1)[0].endswith("_total") or (rising and values[-1][1] > values[0][1])


def _increases(name: str, values: list[tuple[float, float]], notes: list[str]) -> Iterable[tuple[float, float]]:
    resets = 0
    for (at, before), (_, after) in itertools.pairwise(values):
        resets += after < before
        yield at, after - before if after >= before else after
    if resets:
        notes.append(f"{name}: the counter began anew {resets} time(s)")


def _integrals(values: list[tuple[float, float]]) -> Iterable[tuple[float, float]]:
    """A rate holds until the next sample; a negative one counts as none."""
    for (at, rate), (then, _) in itertools.pairwise(values):
        yield at, max(0.0, rate) * (then - at)


def _whole(counts: list[tuple[float, float]]) -> Iterable[tuple[float, int]]:
    """Whole counts whose running sum stays within half an event of the measured one."""
    given, exact = 0, 0.0
    for at, count in counts:
        # Rounded as a running sum, so that halves do not add up to events that never were.
        exact += count
        whole = max(0, round(exact) - given)
        given += whole
        yield at, whole
