"""Numbers worked on as one: `pair` takes the two channels of a frame into one register of the processor, `quad` those
of a frame twice, for two filters, where sums and products of all cost as much as those of one.

A recursion cannot be cut into vectors along time, and the compiler does not see by itself that two channels go the same
way side by side. Kernels write `x = pair(left[i], right[i])`, reckon with it as with a number, alone or with numbers
that count for all, and take it apart by `first` and `second`. The bits are those of the same sums made one by one. A
sound of one channel is its own neighbour: both are reckoned alike and written to the same place.

Numba knows nothing of these until the first kernel is made (see dsp.compiled): it is not imported before.
"""

import functools
import operator
from collections.abc import Callable
from typing import Any

from reins.core.dsp.compiled import Late, flush, inlined

NO_SIGN = 0x7FFFFFFFFFFFFFFF


@functools.cache
def _kind() -> Any:
    """The type of some numbers worked on as one, by how many they are; numba keeps it in one register."""
    from llvmlite import ir
    from numba import types
    from numba.extending import models, register_model

    class Lanes(types.Type):
        def __init__(self, width: int) -> None:
            super().__init__(name=f"Lanes{width}")
            self.width, self.vector = width, ir.VectorType(ir.DoubleType(), width)

    @register_model(Lanes)
    class LanesModel(models.PrimitiveModel):
        def __init__(self, manager: Any, kind: Any) -> None:
            super().__init__(manager, kind, kind.vector)

    return Lanes


def _place(number: int) -> Any:
    """The constant that says which lane."""
    from llvmlite import ir

    return ir.IntType(32)(number)


def _joined(builder: Any, kind: Any, values: Any) -> Any:
    """Code that makes one of values, a lane each."""
    from llvmlite import ir

    made = ir.Constant(kind.vector, ir.Undefined)
    for lane, value in enumerate(values):
        made = builder.insert_element(made, value, _place(lane))
    return made


def _tell_arithmetic() -> None:
    """Tell numba of sums, differences and products, of two of the same kind or one and a number."""
    from numba import types
    from numba.core.typing.templates import AbstractTemplate, infer_global, signature
    from numba.extending import lower_builtin

    kind = _kind()

    def reckons(how: str) -> Callable[..., Any]:
        def lower(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
            kept, both = signature.return_type, zip(arguments, signature.args, strict=True)
            wide = (v if isinstance(k, kind) else _joined(builder, kept, [v] * kept.width) for v, k in both)
            return getattr(builder, how)(*wide)

        return lower

    for operation, how in ((operator.add, "fadd"), (operator.sub, "fsub"), (operator.mul, "fmul")):

        @infer_global(operation)
        class Reckoned(AbstractTemplate):
            def generic(self, arguments: Any, named: Any) -> Any:
                kinds = {given for given in arguments if isinstance(given, kind)}
                if len(kinds) == 1 and all(given in (*kinds, types.float64) for given in arguments):
                    return signature(kinds.pop(), *arguments)
                return None

        for given in ((kind, kind), (types.Float, kind), (kind, types.Float)):
            lower_builtin(operation, *given)(reckons(how))


def _louder(kept: Any) -> Any:
    """The signature and code of `louder`, for one kind."""
    from llvmlite import ir

    whole = ir.VectorType(ir.IntType(64), kept.width)
    sign = ir.Constant(whole, [ir.IntType(64)(NO_SIGN)] * kept.width)
    neighbours = ir.Constant(
        ir.VectorType(ir.IntType(32), kept.width), [_place(lane ^ 1) for lane in range(kept.width)]
    )

    def lower(context: Any, builder: Any, _: Any, values: Any) -> Any:
        size = builder.bitcast(builder.and_(builder.bitcast(values[0], whole), sign), kept.vector)
        other = builder.shuffle_vector(size, ir.Constant(kept.vector, ir.Undefined), neighbours)
        return builder.select(builder.fcmp_ordered(">", size, other), size, other)

    return kept(kept), lower


@functools.cache
def _operations() -> dict[str, Any]:
    """Tell numba of the types and their arithmetic; the functions that make them and take them apart, by name."""
    from numba import types
    from numba.extending import intrinsic

    _tell_arithmetic()
    two, four = _kind()(2), _kind()(4)

    @intrinsic
    def pair(typing: Any, one: Any, other: Any) -> Any:
        return two(*[types.float64] * 2), lambda context, builder, _, values: _joined(builder, two, values)

    @intrinsic
    def quad(typing: Any, a: Any, b: Any, c: Any, d: Any) -> Any:
        return four(*[types.float64] * 4), lambda context, builder, _, values: _joined(builder, four, values)

    @intrinsic
    def louder(typing: Any, kept: Any) -> Any:
        return _louder(kept)

    def lane(number: int) -> Any:
        @intrinsic
        def taken(typing: Any, kept: Any) -> Any:
            return types.float64(kept), lambda context, builder, _, values: builder.extract_element(
                values[0], _place(number)
            )

        return taken

    lanes = {name: lane(number) for number, name in enumerate(("first", "second", "third", "fourth"))}
    return {"pair": pair, "quad": quad, "louder": louder, **lanes}


class _Given(Late):
    """An operation that is numba's own function of that name, once there is one."""

    def __init__(self, name: str) -> None:
        self._called = name

    def is_made(self) -> bool:
        """Numba's own: there is nothing to look at."""
        return False

    def make(self) -> Any:
        """The operation as numba knows it."""
        return _operations()[self._called]


pair: Any = _Given("pair")
quad: Any = _Given("quad")
louder: Any = _Given("louder")  # of each two neighbours, the greater magnitude in the place of both
first: Any = _Given("first")
second: Any = _Given("second")
third: Any = _Given("third")
fourth: Any = _Given("fourth")


@inlined
def begun(state):
    """Both memories of a filter of second order (lanes, 2), of one lane or two, each as a pair."""
    return pair(state[0, 0], state[-1, 0]), pair(state[0, 1], state[-1, 1])


@inlined
def keep(state, one, other):
    """The other way round."""
    state[0, 0], state[-1, 0] = flush(first(one)), flush(second(one))
    state[0, 1], state[-1, 1] = flush(first(other)), flush(second(other))
