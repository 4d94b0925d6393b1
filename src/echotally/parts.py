"""Libraries that only some work needs: the base installs without them, and says what to install when they are missed."""

from __future__ import annotations

from importlib.util import find_spec

from echotally.errors import BadInput, Problem

#: Library -> the optional part (extra) it belongs to, and what needs it.
PARTS = {
    "matplotlib": ("charts", "charts and reports"),
    "igraph": ("charts", "maps of an estate"),
    "jinja2": ("report", "reports"),
    "xlsxwriter": ("sheets", "spreadsheets"),
    "duckdb": ("evidence", "logs, bills and Parquet files"),
    "orjson": ("evidence", "spans and metrics"),
    "prometheus_client": ("evidence", "metrics in text form"),
    "networkx": ("evidence", "surveys"),
    "icalendar": ("calendar", "calendar files"),
    "psutil": ("measure", "trying a program"),
    "urllib3": ("measure", "trying a program by its address"),
    "distributed": ("cluster", "clusters"),
}


def need(*libraries: str) -> None:
    """Raise ``BadInput`` for the first library that is not installed, before anything is computed."""
    for library in libraries:
        if find_spec(library) is None:
            raise BadInput(missing(library))


def missing(library: str) -> Problem:
    """What to say of a library that is not there."""
    part, what = PARTS[library]
    return Problem(f"{what} need {library}, which is not installed", allowed=f"pip install 'echotally[{part}]'")
