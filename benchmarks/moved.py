"""What a rein costs: for every type, each moved setting against the same chain without a rein, block by block in turn,
so that both meet the machine at the same speed. Prints nanoseconds a stereo frame.

    python -m benchmarks.moved [TYPE ...] [--block N]
"""

import argparse
import time
from dataclasses import replace

import numpy as np

from reins.core.chainfile import parse_entry, parse_reins
from reins.core.engine.chain import Chain
from reins.core.moves.scales import ways_of
from reins.core.processors import PROCESSORS
from reins.core.time import Beat, Stream, When

RATE, SECONDS, RUNS, WARM = 48000, 5, 200, 10
CURVE = {"kind": "beat", "beats": 0.5, "points": [[0, 1, 0], [0.5, 0.2, 0.3], [1, 0]]}


def compared(entry, reins, sound, block_frames):
    """Quartiles of what a frame costs without and with the reins, in ns."""
    chains = [Chain([entry], channels=2, sample_rate=RATE, reins=parse_reins(r), key_channels={}) for r in ([], reins)]
    when = When(Stream(0), 0, block_frames, RATE, Beat(120.0))
    times: list[list[float]] = [[], []]
    for run in range(RUNS):
        at = run * block_frames % (SECONDS * RATE - block_frames)
        part = np.ascontiguousarray(sound[:, at : at + block_frames])
        for chain, row in zip(chains, times, strict=True):
            began = time.perf_counter()
            chain.process(part, {}, replace(when, first=run * block_frames))
            row.append(time.perf_counter() - began)
    return [float(np.percentile(row[WARM:], 25)) / block_frames * 1e9 for row in times]


def main():
    """Print a line for each setting."""
    options = argparse.ArgumentParser()
    options.add_argument("types", nargs="*", default=list(PROCESSORS))
    options.add_argument("--block", type=int, default=4096)
    chosen = options.parse_args()
    sound = 0.2 * np.random.default_rng(1).standard_normal((2, SECONDS * RATE))
    for kind in chosen.types:
        entry = parse_entry({"id": "p", "type": kind, "settings": PROCESSORS[kind].timed_with}, kind)
        for path, way in ways_of(entry.settings).items():
            if path.startswith("bands.") and not path.startswith("bands.0."):
                continue
            move = {"what": f"p.{path}", "to": float(0.7 * way.high + 0.3 * way.lowest)}
            still, moved = compared(entry, [{"id": "r", "moves": [move], "by": CURVE}], sound, chosen.block)
            print(f"{kind:11} {way.moves:5} {path:24} {still:6.1f} standing  {moved - still:+6.1f} moved", flush=True)


if __name__ == "__main__":
    main()
