"""In which order kernels are compiled: first what nobody can begin without, then as people reach for things."""

import importlib
from functools import cache

from reins.core.dsp.compiled import Late

#: What the demo's making, the first picture and the first sound need; compiled before the first page is shown.
FIRST = frozenset({
    "takes._fold_bins", "takes._split_channels", "measure.folding.fold_block",
    "dsp.levels.is_finite", "dsp.levels.peak", "dsp.levels.furthest", "dsp.levels.peak_and_energy",
    "dsp.levels.stereo_sums",
    "dsp.loudness._weighted_steps", "dsp.loudness.fold_level", "dsp.loudness._interpolated_peak",
    "dsp.gains._turn", "dsp.gains._to_lin", "dsp.gains._down_to_silence", "dsp.delaying.delay",
})  # fmt: skip
#: The modules of the core that hold kernels, in the order in which people reach for what is made of them.
MODULES = (
    "takes", "measure.folding", "dsp.levels", "dsp.loudness", "dsp.gains", "dsp.delaying",
    "dsp.dynamics",  # compressor, expander, ducker
    "dsp.gating", "dsp.activity", "dsp.filters", "dsp.cuts", "dsp.variable", "dsp.watching",
    "dsp.held_bands",  # de-esser and multiband
    "dsp.reference", "dsp.dynamic_bands", "dsp.crossovers", "dsp.limiting",
    "dsp.stft",  # spectra and maps
    "dsp.drawing", "dsp.levelling", "dsp.shaping", "dsp.circuits", "dsp.halfband", "dsp.following", "dsp.sweeping",
    "dsp.curving", "dsp.by_level", "dsp.three_speed", "dsp.reverberating", "dsp.convolving", "dsp.along", "dsp.bins",
)  # fmt: skip


@cache
def in_order() -> tuple[Late, ...]:
    """All kernels, the first ones first; their modules are imported."""
    modules = {importlib.import_module(f"reins.core.{name}").__name__: place for place, name in enumerate(MODULES)}
    kernels = [late for late in Late.all if late.signatures and late.__module__ in modules]
    return tuple(sorted(kernels, key=lambda late: (not is_first(late), modules[late.__module__])))


def first() -> tuple[Late, ...]:
    """Those that nobody can begin without."""
    return tuple(filter(is_first, in_order()))


def is_first(late: Late) -> bool:
    """Whether nobody can begin without it."""
    return late.name.removeprefix("reins.core.") in FIRST
