"""How a processor that takes no rows hears of settings that move by them: it is given each row's and its part of the
block, one after the other. What gains and drives do is its own in any case (base.Block).
"""

from dataclasses import replace
from typing import Any

import numpy as np

from reins.core.processors.base import Array, Block, ByBin, Moved, Rows
from reins.core.settings.paths import laid_over


def in_rows(processor: Any, standing: Any, block: Block, rows: Rows, applied: Any) -> tuple[Array, Any]:
    """The result of a processor whose standing settings move by rows, and what was applied last: a row that goes on
    from the block before is not applied again.
    """
    outs: list[Array] = []
    told: list[dict[str, Array]] = []
    marks: list[dict[str, Array]] = []
    heard: list[Array | None] = []
    by_bin: list[ByBin] = []
    for row, begin, end in rows.pieces(block.sound.shape[1]):
        values = {path: float(to[row]) for path, to in rows.to.items()}
        if applied != (standing, values):
            processor.apply(laid_over(standing, values), over_frames=rows.length - int(rows.into[row]))
            applied = standing, values
        outs.append(processor.process(_piece(block, begin, end)))
        told.append(processor.gains_db)
        marks.append(processor.marks)
        heard.append(processor.key_heard)
        if processor.by_bin is not None:
            by_bin.append(replace(processor.by_bin, first=processor.by_bin.first + begin))
    processor.gains_db, processor.marks = _joined(told), _joined(marks)
    processor.key_heard = None if heard[0] is None else np.concatenate(heard, axis=1)  # type: ignore[arg-type]
    processor.by_bin = _all_of(by_bin)
    return np.concatenate(outs, axis=1), applied


def _piece(block: Block, begin: int, end: int) -> Block:
    piece, moved = block.part(begin, end), block.moved
    if moved is not None and moved.gains:
        gains, drives = (
            {path: np.ascontiguousarray(values[begin:end]) for path, values in which.items()}
            for which in (moved.gains, moved.drives)
        )
        piece.moved = Moved(gains, drives)
    return piece


def _all_of(pieces: list[ByBin]) -> ByBin | None:
    if not pieces:
        return None
    gains = [piece.gains_db for piece in pieces]
    return replace(pieces[0], gains_db=np.concatenate(gains, axis=1))


def _joined(rows: list[dict[str, Array]]) -> dict[str, Array]:
    return {name: np.concatenate([row[name] for row in rows]) for name in rows[0]}
