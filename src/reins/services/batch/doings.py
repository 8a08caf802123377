"""What a chain did to a file, folded while it runs: all its processors together."""

from typing import Any

import numpy as np

from reins.core.audio import AudioReader
from reins.core.dsp.loudness import LoudnessMeter, TruePeakMeter
from reins.core.engine.chain import Chain
from reins.core.measure.folding import BIN_FRAMES, HISTOGRAM_BINS, fold_block, furthest_of
from reins.core.measure.levels import measure_level
from reins.core.measure.span import Span
from reins.core.processors.base import Array
from reins.core.units import lin_to_db


class Doings:
    """Takes in each block of the result with the gains beside it, as run_chain gives them."""

    def __init__(self, chain: Chain, source: AudioReader) -> None:
        self._chain, self._fed, self._channels = chain, 0, source.channels
        self._places: list[list[int]] = []
        self._meter, self._true_peak = LoudnessMeter(sample_rate=source.sample_rate), TruePeakMeter(source.channels)
        self._taken, self._given = np.zeros(HISTOGRAM_BINS, np.int64), np.zeros(HISTOGRAM_BINS, np.int64)
        self._squares, self._furthest_db = np.zeros(1), np.zeros(3)  # peak, lowest and highest gain

    def feed(self, block: Array, gains: list[Array]) -> None:
        """The next frames of the result."""
        if self._fed == 0:
            self._places = self._gains_of_each()
        total = np.zeros(block.shape[1])
        for places in self._places:
            total += self._furthest([gains[place] for place in places])
        # Folded a block at a time and joined: the bins of an hour would take a hundred megabytes.
        peaks, low, high = np.zeros((3, -(-block.shape[1] // BIN_FRAMES)))
        fold_block(
            block, total, 0, block.shape[1], peaks, self._squares, low, high, self._taken, self._given
        )  # fmt: skip
        peak, lowest, highest = self._furthest_db
        self._furthest_db = np.array([max(peak, peaks.max()), min(lowest, low.min()), max(highest, high.max())])
        self._meter.feed(block)
        self._true_peak.feed(block)
        self._fed += block.shape[1]

    def _gains_of_each(self) -> list[list[int]]:
        """Of each processor the places of its gains among all that the chain tells."""
        places, at = [], 0
        for _, moving, _ in self._chain.gains():
            places.append([at + k for k, name in enumerate(moving) if name.endswith("gain_db")])
            at += len(moving)
        return [own for own in places if own]

    @staticmethod
    def _furthest(rows: list[Array]) -> Array:
        """Of bands that move each by itself, the one that moves furthest."""
        if len(rows) == 1:
            return rows[0]
        out = np.empty(rows[0].size)
        furthest_of(np.stack(rows), out)
        return out

    def finish(self) -> dict[str, Any]:
        """Levels after, and what was held, as a row tells it."""
        peak, lowest, highest = (np.array([value]) for value in self._furthest_db)
        level = measure_level(float(self._squares[0]), float(peak[0]), self._fed * self._channels, self._meter)
        span = Span(
            0, self._fed, peak, lowest, highest, self._taken, self._given, level, None, None, None, {}, None
        )  # fmt: skip
        return {
            "lufs_after": span.result.integrated_lufs, "crest_after_db": span.result.crest_db,
            "true_peak_after_dbtp": lin_to_db(self._true_peak.finish()), **span.statistics(),
        }  # fmt: skip
