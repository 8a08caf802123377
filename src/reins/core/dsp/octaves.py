"""Octaves of the standard (IEC 61260) cut in twelve, and how loud a spectrum is by them."""

from functools import cache

import numpy as np
import numpy.typing as npt

from reins.core.dsp.filters import sections_response
from reins.core.dsp.loudness import k_weighting

Array = npt.NDArray[np.float64]

OCTAVE = 10.0**0.3  # IEC 61260, base ten
TWELFTHS_HZ = 1000.0 * OCTAVE ** (np.arange(-67, 53) / 12.0)  # middles of bands side by side, 21 Hz to 20 kHz


@cache
def _k_weights(sample_rate: int) -> Array:
    weights = np.abs(sections_response(k_weighting(sample_rate), TWELFTHS_HZ, sample_rate)) ** 2
    return np.asarray(np.where(0.49 * sample_rate > TWELFTHS_HZ, weights, 0.0))


def matching_gain(response_db: Array, spectrum: Array | None, sample_rate: int) -> float:
    """The gain that makes a take as loud again as it was before a response, both at TWELFTHS_HZ.

    spectrum: the take's mean power there, pink noise where None. Weighed by the K weighting of ITU-R BS.1770, without
    its gates.
    """
    weighed = _k_weights(sample_rate) * (np.ones(TWELFTHS_HZ.size) if spectrum is None else spectrum)
    before, after = weighed.sum(), (weighed * 10.0 ** (response_db / 10.0)).sum()
    return float(np.sqrt(before / after)) if before > 0.0 and after > 0.0 else 1.0
