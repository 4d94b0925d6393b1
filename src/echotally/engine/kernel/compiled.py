"""How kernels are compiled: cached, without bounds checks or reference counts, plain division."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from numba import config, njit
from numba.core.compiler import CompilerBase, DefaultPassBuilder
from numba.core.compiler_machinery import register_pass
from numba.core.typed_passes import NativeLowering

from echotally.engine.compiling import cache_folder

F = TypeVar("F", bound=Callable[..., Any])


config.CACHE_DIR = str(cache_folder())


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


class _InnerCompiler(CompilerBase):  # type: ignore[misc]
    def define_pipelines(self) -> list[Any]:
        passes = DefaultPassBuilder.define_nopython_pipeline(self.state)
        passes.passes = [(_LowerOnly if step is NativeLowering else step, why) for step, why in passes.passes]
        passes.finalize()
        return [passes]


_OPTIONS: dict[str, Any] = {"error_model": "numpy", "_nrt": False, "nogil": True}


def kernel(function: F) -> F:
    """Compile an inner kernel; it is only ever called from other kernels."""
    options = {
        **_OPTIONS,
        "no_cpython_wrapper": True,
        "no_cfunc_wrapper": True,
        "pipeline_class": _InnerCompiler,
    }
    return njit(**options)(function)  # type: ignore[no-any-return]


def hot(function: F) -> F:
    """As ``kernel``, and always inlined: on the path every attempt takes, a call costs more than the copy."""
    options = {
        **_OPTIONS,
        "no_cpython_wrapper": True,
        "no_cfunc_wrapper": True,
        "pipeline_class": _InnerCompiler,
        "forceinline": True,
    }
    return njit(**options)(function)  # type: ignore[no-any-return]


def entry(function: F) -> F:
    """Compile a kernel that Python calls, and keep the machine code between runs."""
    return njit(**_OPTIONS, cache=True)(function)  # type: ignore[no-any-return]
