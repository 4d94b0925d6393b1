"""All that touches the compiler's private parts: inner kernels without machine code of their own, and a sound cache.

Tried with Numba 0.60.0 and 0.68.1, the ends of the range in pyproject.toml. Where a later one has other insides, importing this fails, and ``compiled``
falls back to the plain form.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from pathlib import Path
from typing import Any

from numba import njit
from numba.core.caching import CompileResultCacheImpl, FunctionCache, _CacheLocator
from numba.core.compiler import CompilerBase, DefaultPassBuilder
from numba.core.compiler_machinery import register_pass
from numba.core.typed_passes import NativeLowering

from echotally.engine.compiling import cache_folder

_OPTIONS: dict[str, Any] = {"error_model": "numpy", "_nrt": False, "nogil": True}
_NO_DOORS: dict[str, Any] = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}


def _leave_to_callers(library: Any) -> None:
    """Optimize and emit an inner kernel only as part of the entry that uses it.

    Numba would optimize each kernel together with all it calls and emit machine code for it, which is work
    for every level of calls, and nobody runs the result.
    """

    def finalized() -> None:
        library._finalize_dynamic_globals()
        library._finalized = True

    library._optimize_final_module = lambda: None
    library._finalize_final_module = finalized


@register_pass(mutates_CFG=True, analysis_only=False)
class _LowerOnly(NativeLowering):
    """Lower a kernel for its callers to link in, and skip the machine code of its own that nobody calls."""

    _name = "echotally_lower_only"

    def run_pass(self, state: Any) -> bool:
        state.flags.no_compile = True
        state["library"] = state.targetctx.codegen().create_library(state.func_id.func_qualname)
        _leave_to_callers(state["library"])
        changed = super().run_pass(state)
        # Numba finds a compiled function by its entry point; any builtin that is its own will do.
        handle = state["cr"]._replace(cfunc=[].append)
        state["cr"] = handle
        state.targetctx.insert_user_function(handle.cfunc, handle.fndesc, [state.library])
        return bool(changed)


class _InnerCompiler(CompilerBase):
    def define_pipelines(self) -> list[Any]:
        passes = DefaultPassBuilder.define_nopython_pipeline(self.state)
        passes.passes = [(_LowerOnly if step is NativeLowering else step, why) for step, why in passes.passes]
        passes.finalize()
        return [passes]


class _Locator(_CacheLocator):
    """Machine code lies in the user's folder for just these sources, so nothing else has to be compared."""

    def __init__(self, py_func: Any) -> None:
        self._line = py_func.__code__.co_firstlineno

    def get_cache_path(self) -> str:
        return str(cache_folder())

    def get_source_stamp(self) -> str:
        return cache_folder().name

    def get_disambiguator(self) -> str:
        return str(self._line)

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> _Locator:
        return cls(py_func)


class _Impl(CompileResultCacheImpl):
    _locator_classes = [_Locator]  # type: ignore[list-item]


class _SoundCache(FunctionCache):
    """A cache that is never believed unread: each file has its digest beside it, and what does not fit is dropped.

    Damaged machine code would not raise but crash, so it must not come as far as being run. A folder that
    cannot be written to costs a compilation, nothing else.
    """

    _impl_class = _Impl

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        if not self._is_sound():
            self._drop()
            return None
        try:
            return super().load_overload(sig, target_context)
        except Exception:
            # Whatever pickle or LLVM makes of it: what cannot be read is compiled again.
            self._drop()
            return None

    def save_overload(self, sig: Any, data: Any) -> None:
        with contextlib.suppress(OSError):
            super().save_overload(sig, data)
            beside = self._sums().with_suffix(f".{os.getpid()}")
            beside.write_text(self._digest())
            os.replace(beside, self._sums())

    def _files(self) -> list[Path]:
        stem = self._impl.filename_base
        return sorted(p for p in cache_folder().glob("*.nb[ic]") if p.name.startswith(f"{stem}."))

    def _sums(self) -> Path:
        return cache_folder() / f"{self._impl.filename_base}.sum"

    def _digest(self) -> str:
        whole = hashlib.blake2b(digest_size=16)
        for path in self._files():
            content = path.read_bytes()
            whole.update(f"{path.name}:{len(content)}:".encode() + content)
        return whole.hexdigest()

    def _is_sound(self) -> bool:
        try:
            return not self._files() or self._sums().read_text() == self._digest()
        except (OSError, UnicodeDecodeError):
            return False

    def _drop(self) -> None:
        for path in (*self._files(), self._sums()):
            with contextlib.suppress(OSError):
                path.unlink()


def inner(function: Any, inlined: bool) -> Any:
    """Compile a kernel that only other kernels call; ``inlined``: always copied into them."""
    wanted: dict[str, Any] = {**_OPTIONS, **_NO_DOORS, "pipeline_class": _InnerCompiler}
    if inlined:
        wanted["forceinline"] = True
    return njit(**wanted)(function)


def outer(function: Any) -> Any:
    """Compile a kernel that Python calls, and keep the machine code between runs."""
    compiled: Any = njit(**_OPTIONS)(function)
    compiled._cache = _SoundCache(function)
    return compiled
