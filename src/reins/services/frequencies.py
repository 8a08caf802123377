"""What is seen by frequency: the spectrum of a whole take and its map."""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.laid import LaidTake
from reins.core.measure.maps import TakeMap, map_picture
from reins.core.measure.spectra import POINTS_HZ, SpectrumMeter, spectrum_of_take, to_db
from reins.core.takes import Take
from reins.core.trials.running import Trial
from reins.core.units import note_name
from reins.errors import InputError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.remembered import Remembered
from reins.services.sounds import Check, Sounds

Array = npt.NDArray[np.float64]
REMEMBERED, REMEMBERED_MAPS = 250, 24  # a spectrum has 2 kB, a map of five minutes 0.9 MB
RUN_FRAMES = 1 << 17
MAX_COLUMNS = 4096
WHAT = ("source", "result", "key")


def points() -> dict[str, list[Any]]:
    """The frequencies spectra and responses are told at, with their notes."""
    return {"hz": np.round(POINTS_HZ, 2).tolist(), "notes": [note_name(hz) for hz in POINTS_HZ]}


class Frequencies:
    """Answers of all desks."""

    def __init__(self, house: House, sounds: Sounds) -> None:
        self._house, self._sounds = house, sounds
        self._newest = Newest()
        self._known = Remembered(REMEMBERED)
        self._maps = Remembered(REMEMBERED_MAPS)

    def spectrum(
        self, session_id: str, strip_id: str, what: str, processor_id: str | None, *, desk: str, number: int,
        band: str = "",
    ) -> dict[str, list[float]]:  # fmt: skip
        """Mean level in dB at each point over the whole session: of what goes into a processor (source), comes out of
        it (result) or its detector, or a band's, hears (key); without a processor, of what goes into the chain and
        comes out of it.
        """
        check = self._newest.check(f"{desk}/{what}", number)
        if what not in WHAT:
            raise InputError(f"what is “{what}”; allowed: {', '.join(WHAT)}.")
        if what == "key" and processor_id is None:
            raise InputError("A key is heard of one processor: choose a processor first.")
        document = document_of(self._house, session_id)
        sound, name = self._sounds.source(document, strip_id, check)
        entries = _up_to(document.strip(strip_id).chain, processor_id, what)
        if not any(entry.on for entry in entries):
            power = self._known.get(("source", name), lambda: spectrum_of_take(sound, check=check))
        else:
            keys, key_name = self._sounds.keys(document, strip_id, check)
            heard = (processor_id, band) if what == "key" and processor_id else None
            strip: Any = document.strip(strip_id)
            whole = strip if processor_id is None else None
            put_out = whole and (whole.chain_on, whole.chain_mix_pct, whole.puts_out)
            made = tuple(part.model_dump_json() for part in (*entries, *strip.reins))
            place = (heard, name, key_name, document.beat, put_out, made)
            trial = Trial(sound, entries, keys, document.beat, strip.reins, whole)
            power = self._known.get(place, lambda: _run(trial, heard, check))
        return {"db": np.round(to_db(power), 1).tolist()}

    def picture(
        self, session_id: str, strip_id: str, *, desk: str, number: int, start: int, frames: int, columns: int,
        what: str = "source",
    ) -> bytes:  # fmt: skip
        """The map of frames start .. start + frames of a strip's source, or of its result as it is kept: a byte a row
        and column (see measure.maps).
        """
        check = self._newest.check(f"{desk}/map", number)
        if not (0 < columns <= MAX_COLUMNS and frames > 0 and start >= 0):
            raise InputError(
                f"columns is {columns}, frames {frames}, start {start}; allowed: 1 to {MAX_COLUMNS} columns."
            )
        of = self._sounds.result if what == "result" else self._sounds.source
        sound, name = of(document_of(self._house, session_id), strip_id, check)
        laid, gain, take = 0, 1.0, sound
        if isinstance(sound, LaidTake):
            laid, gain, take = sound.start_frame, sound.gain, sound.take
            name = name.split("/")[0]
        known = self._maps.get(name, lambda: TakeMap(take)) if isinstance(take, Take) else None
        return map_picture(take, known, start - laid, frames, columns, check, gain=gain).tobytes()


def _up_to(chain: list[ProcessorEntry], processor_id: str | None, what: str) -> list[ProcessorEntry]:
    """The part of a chain that leads to what is asked for."""
    places = [place for place, entry in enumerate(chain) if entry.id == processor_id]
    if not places:
        return [] if what == "source" else chain
    return chain[: places[0] + (what != "source")]


def _run(trial: Trial, detector: tuple[str, str] | None, check: Check) -> Array:
    """Mean power of what a chain makes, or of what one of its detectors (of a processor, and of a band) hears."""
    chain, facts = trial.chain(), trial.sound.facts
    meter = SpectrumMeter(sample_rate=facts.sample_rate)
    for block, _ in trial.run(0, facts.frames, block_frames=RUN_FRAMES, chain=chain):
        check()
        heard = chain.heard(*detector) if detector else None
        if heard is not None or detector is None:
            meter.feed(heard.signal if heard else block)
    return meter.finish().power()
