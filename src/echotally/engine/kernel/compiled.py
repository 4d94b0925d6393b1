"""The marks of kernels: compiled without bounds checks or reference counts, or, in the plain form, left as they are."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

F = TypeVar("F", bound=Callable[..., Any])


def _compiler() -> Any:
    """The module that compiles; None in the checked form and where the compiler cannot be used."""
    if os.environ.get("ECHOTALLY_KERNELS") == "checked":
        return None
    try:
        from echotally.engine.kernel import numba_inner
    except Exception as error:
        # A compiler with other insides, or none: the answer is the same, and late is better than never.
        print(f"echotally: playing without the compiler, which is far slower ({error})", file=sys.stderr)  # noqa: T201 - nothing else is there to say it
        return None
    return numba_inner


_COMPILER = _compiler()
COMPILED = _COMPILER is not None


def kernel(function: F) -> F:
    """Compile an inner kernel; it is only ever called from other kernels."""
    return _COMPILER.inner(function, inlined=False) if COMPILED else function


def hot(function: F) -> F:
    """As ``kernel``, and always inlined: on the path every attempt takes, a call costs more than the copy."""
    return _COMPILER.inner(function, inlined=True) if COMPILED else function


def rare(function: F) -> F:
    """As ``kernel``, and nothing is copied into it: off the usual path a copy is only more to compile."""
    return _COMPILER.inner(function, inlined=False, copies=False) if COMPILED else function


def entry(function: F) -> F:
    """The kernel that Python calls; compiled, it gives machine code, which ``engine.compiling`` keeps and loads."""
    return _COMPILER.outer(function) if COMPILED else _strict(function)


def wrapping(function: F) -> F:
    """Marks where 64-bit numbers are meant to wrap around; the plain form holds all others against their range."""
    return function if COMPILED else _with_overflow(function, "ignore")


def _strict(function: F) -> F:
    return _with_overflow(function, "raise")


def _with_overflow(function: F, over: Any) -> F:
    @functools.wraps(function)
    def run(*arguments: Any) -> Any:
        with np.errstate(over=over):
            return function(*arguments)

    return run  # type: ignore[return-value]
