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

from echotally.engine.native import stands_together

_OPTIONS: dict[str, Any] = {
    "error_model": "numpy",
    "_nrt": False,
    "no_cpython_wrapper": True,
    "no_cfunc_wrapper": True,
}
#: Kernels of a module of this name are optimized further than the others.
_THOROUGHLY = "short_way"
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
    """Link whatever the entry reaches into its module, once each, and optimize it as a whole."""

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
        _optimize(library)
        library._final_module.verify()
        library._verify_declare_only_symbols()
        library.object_code = _emitter(library._codegen).emit_object(library._final_module)
        library._finalized = True

    library.finalize = finalized


def _emitter(codegen: Any) -> Any:
    """What makes machine code for this processor, as ``native.load`` lays it into memory."""
    if not stands_together():
        return codegen._tm
    target = llvm.Target.from_triple(llvm.get_process_triple())
    its = {"cpu": codegen._get_host_cpu_name(), "features": codegen._tm_features, "opt": 3, "jit": True}
    # The default is the small model: whatever is called or read stands within 2 GB.
    return target.create_target_machine(**its, reloc="pic", codemodel="default")


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


def _optimize(library: Any) -> None:
    if not hasattr(llvm, "create_pass_builder"):
        # Compilers before 0.61 have no other way; at their usual level they copy every kernel into every other.
        codegen = library._codegen
        codegen._module_pass_manager(opt=1, loop_vectorize=False, slp_vectorize=False).run(library._final_module)
        return
    # Numba runs all passes twice, so that reference counts meet; kernels have none. The first level takes three fifths of the
    # time of the second, and estates play as fast: only the short way of single calls gains by more.
    light, full = (_passes(library, level) for level in (1, 2))
    light.getModulePassManager().run(library._final_module, light)
    thorough = full.getFunctionPassManager()
    for function in library._final_module.functions:
        if not function.is_declaration and _THOROUGHLY in function.name:
            thorough.run(function, full)


def _passes(library: Any, level: int) -> Any:
    return llvm.create_pass_builder(library._codegen._tm, llvm.create_pipeline_tuning_options(speed_level=level))


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

    def machine_code(self) -> tuple[str, bytes]:
        """Its name in an object file of all that it reaches, and the file."""
        numbers = (types.int64,) * 4
        with _no_collections(), _typing_remembered():
            self._compiled.compile(numbers)
        result = self._compiled.overloads[numbers]
        result.library._ensure_finalized()
        return result.fndesc.llvm_func_name, bytes(result.library.object_code)


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
