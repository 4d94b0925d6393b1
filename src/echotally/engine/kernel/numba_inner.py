"""All that touches the compiler's private parts: inner kernels are only lowered, the entry is linked and optimized once.

Tried with Numba 0.60.0 and 0.68.1, the ends of the range in pyproject.toml, and with 0.61, 0.62 and 0.65. Where a later one has
other insides, importing this fails, and ``compiled`` falls back to the plain form.
"""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import llvmlite.binding as llvm
from llvmlite.ir import CallInstr
from numba import njit, types
from numba.core.compiler import CompilerBase, DefaultPassBuilder
from numba.core.compiler_machinery import register_pass
from numba.core.registry import cpu_target
from numba.core.typed_passes import NativeLowering

from echotally.engine import finishing
from echotally.engine.native import stands_together

_OPTIONS: dict[str, Any] = {
    "error_model": "numpy",
    "_nrt": False,
    "no_cpython_wrapper": True,
    "no_cfunc_wrapper": True,
}
#: How names of kernels begin in machine code.
_KERNELS = "_ZN"
#: Passes for what kernels do not have (closures, context managers, literal tuples unrolled, array expressions, objects).
_NOT_NEEDED = frozenset(
    {
        "AnnotateTypes",
        "DeadBranchPrune",
        "DumpParforDiagnostics",
        "FindLiterallyCalls",
        "GenericRewrites",
        "InlineClosureLikes",
        "InlineInlinables",
        "InlineOverloads",
        "LiteralPropagationSubPipelinePass",
        "LiteralUnroll",
        "MakeFunctionToJitFunction",
        "NoPythonSupportedFeatureValidation",
        "NopythonRewrites",
        "PreLowerStripPhis",
        "ReconstructSSA",
        "RewriteDynamicRaises",
        "RewriteSemanticConstants",
        "WithLifting",
    }
)


def _leave_to_the_entry(library: Any) -> None:
    """Neither link, optimize nor emit an inner kernel by itself.

    Numba would optimize each kernel together with all it calls and emit machine code for it, which is work
    for every level of calls, and nobody runs the result.
    """

    def laid_out(module: Any) -> None:
        module.data_layout = library._codegen._data_layout

    def finalized() -> None:
        library._finalized = True

    library._optimize_functions = laid_out
    library.finalize = finalized


def _copy_nothing(library: Any) -> None:
    """As ``_leave_to_the_entry``; what is always copied into its callers is called here."""
    _leave_to_the_entry(library)
    add = library.add_ir_module

    def added(module: Any) -> None:
        for function in module.functions:
            for block in function.blocks:
                for step in block.instructions:
                    if isinstance(step, CallInstr) and getattr(step.callee, "name", "").startswith(_KERNELS):
                        step.attributes.add("noinline")
        add(module)

    library.add_ir_module = added


def _take_in_all(library: Any) -> None:
    """Link whatever the entry reaches into its module, once each; it is optimized as a whole afterwards."""

    def finalized() -> None:
        own = {function.name for function in library._final_module.functions if not function.is_declaration}
        seen: dict[int, Any] = {}
        waiting = list(library._linking_libraries)
        while waiting:
            other = waiting.pop()
            if id(other) not in seen:
                seen[id(other)] = other
                waiting += other._linking_libraries
        library._final_module.link_in(_as_one([other._get_module_for_linking() for other in seen.values()]))
        for function in library._final_module.functions:
            if not function.is_declaration and function.name not in own:
                # Nobody else calls it: what has been copied into its callers goes.
                function.linkage = "internal"
        library._finalized = True

    library.finalize = finalized


def _as_one(modules: list[Any]) -> Any:
    """All modules in the first. Each linking looks through all that is linked into: by twos, each is looked through a few times."""
    for module in modules:
        for function in module.functions:
            if not function.is_declaration:
                # Else what nobody calls in the two would be left out.
                function.linkage = "external"
    while len(modules) > 1:
        for one, other in zip(modules[::2], modules[1::2], strict=False):
            one.link_in(other)
        modules = modules[::2]
    return modules[0]


def _optimized(module: Any, codegen: Any) -> Any:
    """The module, optimized in place, and what writes machine code of it."""
    machine = finishing.this_processor() if stands_together() else codegen._tm
    if hasattr(llvm, "create_pass_builder"):
        finishing.optimize(module, machine)
    else:
        # Compilers before 0.61 have no other way; at their usual level they copy every kernel into every other.
        codegen._module_pass_manager(opt=1, loop_vectorize=False, slp_vectorize=False).run(module)
    return machine


class _Lowering(NativeLowering):
    """Lower a function into a library that is finished in our way."""

    prepare: Any

    def run_pass(self, state: Any) -> bool:
        state.flags.no_compile = True
        state["library"] = state.targetctx.codegen().create_library(state.func_id.func_qualname)
        self.prepare(state["library"])
        changed = super().run_pass(state)
        # Numba finds a compiled function by its entry point; any builtin that is its own will do.
        handle = state["cr"]._replace(cfunc=[].append)
        state["cr"] = handle
        state.targetctx.insert_user_function(handle.cfunc, handle.fndesc, [state.library])
        return bool(changed)


@register_pass(mutates_CFG=True, analysis_only=False)
class _LowerOnly(_Lowering):
    _name: Any = "echotally_lower_only"
    prepare = staticmethod(_leave_to_the_entry)


@register_pass(mutates_CFG=True, analysis_only=False)
class _LowerRare(_Lowering):
    _name: Any = "echotally_lower_rare"
    prepare = staticmethod(_copy_nothing)


@register_pass(mutates_CFG=True, analysis_only=False)
class _LowerEntry(_Lowering):
    _name: Any = "echotally_lower_entry"
    prepare = staticmethod(_take_in_all)


class _InnerCompiler(CompilerBase):
    lowering: Any = _LowerOnly

    def define_pipelines(self) -> list[Any]:
        passes = DefaultPassBuilder.define_nopython_pipeline(self.state)
        passes.passes = [
            (self.lowering if step is NativeLowering else step, why)
            for step, why in passes.passes
            if step.__name__ not in _NOT_NEEDED
        ]
        passes.finalize()
        return [passes]


class _RareCompiler(_InnerCompiler):
    lowering = _LowerRare


class _EntryCompiler(_InnerCompiler):
    lowering = _LowerEntry


def inner(function: Any, inlined: bool, copies: bool = True) -> Any:
    """Compile a kernel that only other kernels call; ``inlined``: always copied into them. ``copies``: into it as well."""
    # Said either way: a kernel that says nothing is compiled as its caller is.
    return njit(**_OPTIONS, pipeline_class=_InnerCompiler if copies else _RareCompiler, forceinline=inlined)(function)


class Outer:
    """The kernel that Python calls."""

    def __init__(self, function: Any) -> None:
        self._compiled: Any = njit(**_OPTIONS, pipeline_class=_EntryCompiler)(function)

    def lowered(self) -> tuple[str, Any]:
        """Its name, and LLVM's module of all that it reaches, not optimized."""
        result = self._lower()
        return result.fndesc.llvm_func_name, result.library._final_module

    def machine_code(self) -> tuple[str, bytes]:
        """Its name in an object file of all that it reaches, and the file."""
        name, module = self.lowered()
        machine = _optimized(module, self._lower().library._codegen)
        return name, finishing.written(module, machine)

    def _lower(self) -> Any:
        numbers = (types.int64,) * 4
        if numbers not in self._compiled.overloads:
            with _no_collections(), _typing_remembered():
                self._compiled.compile(numbers)
            self._compiled.overloads[numbers].library._ensure_finalized()
        return self._compiled.overloads[numbers]


@contextmanager
def _typing_remembered() -> Iterator[None]:
    """What an operator gives for numbers of some kinds is asked thousands of times, and each time tried rule by rule."""
    context: Any = cpu_target.typing_context
    ask, known = context.resolve_function_type, dict[Any, Any]()

    def remembered(function: Any, arguments: Any, keywords: Any) -> Any:
        # Kernels are asked anew: compiling them is what the asking is for.
        if keywords or not isinstance(function, types.Function):
            return ask(function, arguments, keywords)
        key = (function, tuple(arguments))
        if key not in known:
            known[key] = ask(function, arguments, keywords)
        return known[key]

    context.resolve_function_type = remembered
    try:
        yield
    finally:
        del context.resolve_function_type


@contextmanager
def _no_collections() -> Iterator[None]:
    """Compiling makes millions of objects that live to its end: looking for rubbish among them takes a tenth of the time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def outer(function: Any) -> Outer:
    """Compile the kernel that Python calls."""
    return Outer(function)
