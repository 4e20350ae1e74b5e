"""Sums and comparisons of small integers for kernels: of int16 as int16, where Numba's own make an int64 of it, of
which fewer fit into a register of the processor."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yama.terrain.kernels import Waiting


class _Instruction(Waiting):
    """An instruction of the processor, by the function that writes it down for the compiler."""

    def __init__(self, function: Callable[..., Any]) -> None:
        super().__init__(function, {})

    def compiled(self) -> Any:
        if self._made is None:
            from numba.extending import intrinsic

            self._made = intrinsic(self.py_func)
            self._give_way()
        return self._made


def _int16(count: int) -> Any:
    from numba import types

    return types.int16(*[types.int16] * count)


@_Instruction
def add(context: Any, a: Any, b: Any) -> Any:
    """The sum of two int16."""
    return _int16(2), lambda _, builder, __, args: builder.add(args[0], args[1])


@_Instruction
def less(context: Any, a: Any, b: Any) -> Any:
    """The smaller of two int16."""

    def code(_: Any, builder: Any, __: Any, args: Any) -> Any:
        return builder.select(builder.icmp_signed("<", args[0], args[1]), args[0], args[1])

    return _int16(2), code


@_Instruction
def narrow(context: Any, a: Any) -> Any:
    """An int64 as the int16 that it fits into."""
    from llvmlite import ir
    from numba import types

    return types.int16(types.int64), lambda _, builder, __, args: builder.trunc(args[0], ir.IntType(16))


@_Instruction
def ones(context: Any, a: Any) -> Any:
    """How many bits of a uint64 are set."""
    from llvmlite import ir
    from numba import types

    def code(_: Any, builder: Any, __: Any, args: Any) -> Any:
        return builder.call(builder.module.declare_intrinsic("llvm.ctpop", [ir.IntType(64)]), args)

    return types.uint64(types.uint64), code
