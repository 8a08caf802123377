"""How loud the mix is, against how loud it should be: what the master's fader would have to do, said and offered."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from reins.core.chainfile import ProcessorEntry
from reins.core.engine.length import sounding_frames
from reins.core.engine.offline import render_mix_and_stems
from reins.core.last_word import LAST, behind_limiter
from reins.core.measure.meters import MasterMeter
from reins.core.sessions import Master
from reins.core.settings.fields import limits_of
from reins.errors import ConflictError
from reins.services.editing import document_of
from reins.services.exporting import Output
from reins.services.house import House

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class MixLoudness:
    """Integrated loudness (BS.1770) and true peak of the mix, the fader that would bring it to the target, and that in
    words.
    """

    integrated_lufs: float
    true_peak_dbtp: float
    fader_db: float
    said: str


def mix_loudness(house: House, session_id: str, output: Output, target_lufs: float, progress: Progress) -> MixLoudness:
    """Measure what of the mix is to be written. The master's fader comes after its chain, so that it moves both by as
    much. ConflictError where there is nothing to measure.
    """
    document = document_of(house, session_id)
    takes = house.takes(document)
    frames, meter, done = sounding_frames(document, takes), MasterMeter(sample_rate=document.sample_rate), 0
    if not frames:
        raise ConflictError("There is nothing to measure yet: the session has no track with a take.")
    output.check_span(frames)
    for block, _ in render_mix_and_stems(document, takes, frames):
        part = output.part(block, done, frames)
        if part.shape[1]:
            meter.feed(np.ascontiguousarray(part))
        done += block.shape[1]
        progress(done, frames)
    read = meter.finish()
    if read is None or read.integrated_lufs is None:
        raise ConflictError("It is too quiet or too short to be measured: BS.1770 wants 0.4 s above -70 LUFS.")
    low, high = limits_of(Master.model_fields["fader_db"])
    by_db = target_lufs - read.integrated_lufs
    fader_db = round(min(max(document.master.fader_db + by_db, low), high), 1)
    peak = read.true_peak_dbtp + fader_db - document.master.fader_db
    said = (
        f"The mix has {_plain(read.integrated_lufs)} LUFS, its true peak is {_plain(read.true_peak_dbtp)} dB. For "
        f"{_plain(target_lufs)} LUFS the master's fader goes to {_plain(fader_db)} dB; true peaks are then "
        f"{_plain(peak)} dB"
    )
    reached = read.integrated_lufs + fader_db - document.master.fader_db
    if abs(reached - target_lufs) > 0.1:
        said += f", and it has {_plain(reached)} LUFS: that is as far as the fader goes"
    said += f", over full scale: {_why(document.master.chain)}." if peak > 0.0 else "."
    return MixLoudness(read.integrated_lufs, read.true_peak_dbtp, fader_db, said)


def _why(chain: Sequence[ProcessorEntry]) -> str:
    """What lets it pass full scale, and what to do."""
    behind = behind_limiter(chain)
    if behind:
        return f"{', '.join(behind)} {'stands' if len(behind) == 1 else 'stand'} behind the limiter; put it last"
    if any(entry.on and entry.type == LAST for entry in chain):
        return "the fader comes after the limiter; leave it, and drive the limiter instead"
    return "switch the master's limiter on first"


def _plain(value: float) -> str:
    return f"{value:.1f}".replace("-", "\u2212")
