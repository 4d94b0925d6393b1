"""LLVM's half of making machine code: kernels as Numba lowers them are optimized as a whole and written for this processor.

Nothing here imports Numba: kernels may have been lowered by somebody else (``engine/carried.py``).
"""

from __future__ import annotations

from typing import Any

import llvmlite.binding as llvm

#: Kernels of a module of this name are optimized further than the others.
_THOROUGHLY = "short_way"


def this_processor() -> Any:
    """What writes machine code for this processor as ``native.load`` lays it into memory where it ``stands_together``."""
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    target = llvm.Target.from_triple(llvm.get_process_triple())
    its = {"cpu": llvm.get_host_cpu_name(), "features": llvm.get_host_cpu_features().flatten(), "opt": 3, "jit": True}
    # The default is the small model: whatever is called or read stands within 2 GB.
    return target.create_target_machine(**its, reloc="pic", codemodel="default")


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


def written(module: Any, machine: Any) -> bytes:
    """The object file of a module; raises ``RuntimeError`` where it is not well formed."""
    module.verify()
    return bytes(machine.emit_object(module))


def _passes(machine: Any, level: int) -> Any:
    return llvm.create_pass_builder(machine, llvm.create_pipeline_tuning_options(speed_level=level))
