"""LLVM's half of making machine code: kernels as Numba lowers them are optimized as a whole and written for this processor.

Nothing here imports Numba: kernels may have been lowered, and optimized, by somebody else (``engine/carried.py``).
"""

from __future__ import annotations

from typing import Any

import llvmlite.binding as llvm

#: Kernels of a module of this name are optimized further than the others.
_THOROUGHLY = "short_way"


def this_processor() -> Any:
    """What writes machine code for this processor as ``native.load`` lays it into memory where it ``stands_together``."""
    return _written_for(llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten())


def any_processor() -> Any:
    """As ``this_processor``, for whatever processor of its kind: what it optimizes is the same wherever that is done."""
    return _written_for("x86-64", "")


def _written_for(processor: str, features: str) -> Any:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    target = llvm.Target.from_triple(llvm.get_process_triple())
    # The default is the small model: whatever is called or read stands within 2 GB.
    its = {"opt": 3, "jit": True, "reloc": "pic", "codemodel": "default"}
    return target.create_target_machine(cpu=processor, features=features, **its)


def optimize(module: Any, machine: Any) -> None:
    """Optimize the kernels of a module in place; only what its entry reaches stays.

    Numba runs all passes twice, so that reference counts meet; kernels have none. The first level takes three fifths of the
    time of the second, and estates play as fast: only the short way of single calls gains by more.
    """
    light, full = _passes(machine, 1), _passes(machine, 2)
    light.getModulePassManager().run(module, light)
    thorough = full.getFunctionPassManager()
    for function in module.functions:
        if not function.is_declaration and _THOROUGHLY in function.name:
            thorough.run(function, full)


def optimize_well(module: Any, machine: Any) -> None:
    """As ``optimize``, at the second level for all kernels: where the time that it takes is taken once, for everybody."""
    full = _passes(machine, 2)
    full.getModulePassManager().run(module, full)


def written(module: Any, machine: Any) -> bytes:
    """The object file of a module; raises ``RuntimeError`` where it is not well formed."""
    module.verify()
    return bytes(machine.emit_object(module))


def _passes(machine: Any, level: int) -> Any:
    return llvm.create_pass_builder(machine, llvm.create_pipeline_tuning_options(speed_level=level))
