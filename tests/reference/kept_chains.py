"""Twenty chains over every type, and samples of what they made of one sound before the contract was rebuilt.

The samples in kept_chains.npz were written by `python -m tests.reference.kept_chains` at the commit before: old chains
give the same samples. Write them anew only when a processor is meant to sound otherwise, and say so in the commit.
"""

from pathlib import Path

import numpy as np

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain

RATE = 48000
KEPT = Path(__file__).with_suffix(".npz")
SAMPLES = 400  # of each chain, spread over all of its result

KEY = {"source": "k", "gain_db": 3.0, "low_cut_hz": 80.0, "high_cut_hz": 9000.0}
BANDS = [
    {"freq_hz": 120.0, "q": 0.7, "shape": "low_shelf", "gain_db": 3.0},
    {"freq_hz": 700.0, "q": 2.0, "motion": "compress", "threshold_db": -40.0, "ratio": 3.0, "auto_release": True},
    {"freq_hz": 3200.0, "motion": "expand", "threshold_db": -45.0, "watch": "whole", "attack_ms": 2.0},
    {"freq_hz": 6500.0, "motion": "spare"},
    {"freq_hz": 9000.0, "shape": "high_shelf", "motion": "compress", "threshold_db": -50.0, "watch": "band_weighted"},
]
CHAINS = (
    [("compressor", {"threshold_db": -30.0, "ratio": 6.0, "attack_ms": 3.0, "makeup_db": 4.0})],
    [("compressor", {"threshold_db": -36.0, "auto_release": True, "rms_pct": 60.0, "hold_ms": 5.0, "mix_pct": 70.0})],
    [("compressor", {"threshold_db": -40.0, "channels": "mid_side", "link_pct": 20.0, "apply_to": "second"})],
    [("compressor", {"threshold_db": -30.0, "key": KEY, "lookahead_ms": 3.0, "link_by": "mean", "output_db": -2.0})],
    [("compressor", {"threshold_db": -30.0, "attack_ms": 0.0, "release_ms": 2.0, "oversampling": 4, "input_db": 6.0})],
    [("gate", {"threshold_db": -28.0, "attack_ms": 0.5, "hold_ms": 4.0, "release_ms": 30.0})],
    [("gate", {"threshold_db": -30.0, "invert": True, "range_db": 24.0, "auto_release": True, "link_pct": 0.0})],
    [("gate", {"threshold_db": -24.0, "key": KEY, "lookahead_ms": 2.0, "range_db": 40.0})],
    [("expander", {"threshold_db": -26.0, "ratio": 3.0})],
    [("expander", {"direction": "up", "threshold_db": -30.0, "ratio": 1.4, "range_db": 9.0, "auto_release": True})],
    [("ducker", {"amount_db": 14.0, "key": KEY, "floor_db": -40.0})],
    [("deesser", {"threshold_db": -34.0, "ratio": 6.0})],
    [("deesser", {"relative": True, "threshold_db": -12.0, "act_on": "whole", "auto_release": True})],
    [("dynamic_eq", {"bands": BANDS, "low_cut_hz": 60.0, "high_cut_hz": 15000.0, "high_cut_slope": 36})],
    [("dynamic_eq", {"bands": BANDS, "topology": "serial", "match_highs": True, "rest": {"on": True}})],
    [("dynamic_eq", {"bands": [{**BANDS[1], "key": KEY}], "match_loudness": True, "mix_pct": 60.0})],
    [("multiband", {"crossovers_hz": [300.0, 3000.0], "bands": [
        {"threshold_db": -36.0, "ratio": 4.0}, {"direction": "expand_down", "threshold_db": -40.0},
        {"direction": "expand_up", "threshold_db": -30.0, "auto_release": True, "gain_db": 2.0}]})],
    [("multiband", {"crossovers_hz": [150.0, 900.0, 4000.0], "key": KEY, "channels": "mid_side", "amount_pct": 130.0})],
    [("limiter", {"ceiling_db": -14.0, "input_db": 6.0, "auto_release": True})],
    [("gate", {"threshold_db": -34.0}), ("dynamic_eq", {"bands": BANDS[:2]}), ("compressor", {"threshold_db": -24.0}),
     ("deesser", {"threshold_db": -30.0}), ("limiter", {"true_peak": False, "ceiling_db": -9.0})],
)  # fmt: skip


def sound():
    """Hits, a voice-like tone with esses, and noise: (2, frames) of half a second, and a key (1, frames)."""
    rng, t = np.random.default_rng(20261127), np.arange(RATE // 2) / RATE
    hits = np.exp(-((t * 8.0) % 1.0) * 20.0) * np.sin(2 * np.pi * 140 * t)
    ess = (np.sin(2 * np.pi * 3 * t) > 0.7) * rng.standard_normal(t.size) * 0.1
    voice = 0.25 * np.sin(2 * np.pi * 310 * t) + 0.1 * np.sin(2 * np.pi * 2480 * t) * (t > 0.2)
    left = 0.5 * hits + voice + ess + 0.003 * rng.standard_normal(t.size)
    return np.stack([left, 0.7 * voice - 0.3 * hits + 0.6 * ess]), 0.6 * np.roll(hits, 3000)[None]


def samples_of(chain):
    """What a chain of (type, settings) makes of the sound: one signal's samples, both channels, in blocks of 1000."""
    source, key = sound()
    entries = [
        parse_entry({"id": f"p{k}", "type": kind, "settings": settings}, kind)
        for k, (kind, settings) in enumerate(chain)
    ]
    made = Chain(entries, channels=2, sample_rate=RATE, key_channels={"k": 1})
    parts = [
        made.process(np.ascontiguousarray(source[:, k : k + 1000]), {"k": np.ascontiguousarray(key[:, k : k + 1000])})
        for k in range(0, source.shape[1], 1000)
    ]
    out = np.concatenate(parts, axis=1)
    return out.T.ravel()[:: out.size // SAMPLES][:SAMPLES]


if __name__ == "__main__":
    np.savez_compressed(KEPT, np.stack([samples_of(chain) for chain in CHAINS]))
