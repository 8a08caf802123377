"""Two numbers worked on as one: `pair` takes the two channels of a frame into one register of the processor, where
sums and products of both cost as much as those of one.

A recursion cannot be cut into vectors along time, and the compiler does not see by itself that two channels go the same
way side by side. Kernels write `x = pair(left[i], right[i])`, reckon with it as with a number, alone or with numbers
that count for both, and take it apart by `first` and `second`. The bits are those of the same sums made one by one. A
sound of one channel is its own neighbour: both are reckoned alike and written to the same place.

Numba knows nothing of these until the first kernel is made (see dsp.compiled): it is not imported before.
"""

import functools
import operator
from collections.abc import Callable
from typing import Any

from reins.core.dsp.compiled import Late, flush, inlined

WIDTH = 2


@functools.cache
def _operations() -> dict[str, Any]:
    """Tell numba of the type and its arithmetic; the functions that make one and take it apart, by name."""
    from llvmlite import ir
    from numba import types
    from numba.core.typing.templates import AbstractTemplate, infer_global, signature
    from numba.extending import intrinsic, lower_builtin, models, register_model

    vector, place = ir.VectorType(ir.DoubleType(), WIDTH), ir.IntType(32)

    class Pair(types.Type):
        def __init__(self) -> None:
            super().__init__(name="Pair")

    kept = Pair()

    @register_model(Pair)
    class PairModel(models.PrimitiveModel):
        def __init__(self, manager: Any, kind: Any) -> None:
            super().__init__(manager, kind, vector)

    def joined(builder: Any, values: Any) -> Any:
        made = ir.Constant(vector, ir.Undefined)
        for lane, value in enumerate(values):
            made = builder.insert_element(made, value, place(lane))
        return made

    def reckons(how: str) -> Callable[..., Any]:
        def lower(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
            both = zip(arguments, signature.args, strict=True)
            wide = (value if isinstance(kind, Pair) else joined(builder, [value] * WIDTH) for value, kind in both)
            return getattr(builder, how)(*wide)

        return lower

    for operation, how in ((operator.add, "fadd"), (operator.sub, "fsub"), (operator.mul, "fmul")):

        @infer_global(operation)
        class Reckoned(AbstractTemplate):
            def generic(self, arguments: Any, named: Any) -> Any:
                pairs = sum(isinstance(kind, Pair) for kind in arguments)
                if pairs and all(kind in (kept, types.float64) for kind in arguments):
                    return signature(kept, *arguments)
                return None

        for kinds in ((Pair, Pair), (types.Float, Pair), (Pair, types.Float)):
            lower_builtin(operation, *kinds)(reckons(how))

    @intrinsic
    def pair(typing: Any, one: Any, other: Any) -> Any:
        return kept(types.float64, types.float64), lambda context, builder, _, values: joined(builder, values)

    def lane(number: int) -> Any:
        @intrinsic
        def taken(typing: Any, both: Any) -> Any:
            return types.float64(kept), lambda context, builder, _, values: builder.extract_element(
                values[0], place(number)
            )

        return taken

    return {"pair": pair, "first": lane(0), "second": lane(1)}


class _Given(Late):
    """An operation that is numba's own function of that name, once there is one."""

    def __init__(self, name: str) -> None:
        self._name = name

    def made(self) -> Any:
        """The operation as numba knows it."""
        return _operations()[self._name]


pair: Any = _Given("pair")
first: Any = _Given("first")
second: Any = _Given("second")


@inlined
def begun(state):
    """Both memories of a filter of second order (lanes, 2), of one lane or two, each as a pair."""
    return pair(state[0, 0], state[-1, 0]), pair(state[0, 1], state[-1, 1])


@inlined
def keep(state, one, other):
    """The other way round."""
    state[0, 0], state[-1, 0] = flush(first(one)), flush(second(one))
    state[0, 1], state[-1, 1] = flush(first(other)), flush(second(other))
