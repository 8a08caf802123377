"""What is told, besides meters, of the strip that is looked at: where its processors stand, and spectra of now."""

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.dsp.levels import stereo_sums
from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.bandlevels import BandLevels
from reins.core.engine.chain import Chain
from reins.core.engine.mixer import Mixer
from reins.core.measure.meters import Correlation
from reins.core.measure.span import IN_CHARGE
from reins.core.measure.spectra import POINTS_HZ, SpectrumOfNow, to_db
from reins.core.processors import PROCESSORS
from reins.core.processors.making import response_db

Array = npt.NDArray[np.float64]
SHORT_TERM_TENTHS, LEAST_TENTHS, QUIET_LUFS = 30, 4, -70.0
READINGS_PER_S = 30  # of spectra and of the curve of now


@dataclass(frozen=True)
class Watched:
    """The strip looked at, the processor on the bench, whether spectra are wanted, a strip laid over it, and the band
    whose key is seen.
    """

    strip_id: str = ""
    processor_id: str = ""
    spectra: bool = False
    beside: str = ""
    band: str = ""


@dataclass(frozen=True)
class Sight:
    """Of the strip watched, over a block: peak in and out in dB by processor; of the processor on the bench its gains
    by name and how much it changes each of POINTS_HZ now, in dB; spectra (source, result, key, beside) in dB there.
    Curve and spectra come as often as READINGS_PER_S. in_charge: the number of the one of its detectors that is, 0 for
    nobody, where it has several. moved: what reins move of the strip, as they name it, and its value. heard_db: by band
    the loudest moment of what it hears, since the reading before. louder_lu: by processor how much louder what leaves
    it is than what comes, over the last three seconds. correlation: of the two sides of what the strip puts out after
    fader and pan, None in silence and of one side.
    """

    points: dict[str, tuple[float, float]]
    bands: dict[str, float]
    curve_db: Array | None
    spectra: dict[str, Array]
    moved: dict[str, float] = field(default_factory=dict)
    in_charge: int = 0
    heard_db: dict[str, float] = field(default_factory=dict)
    louder_lu: dict[str, float] = field(default_factory=dict)
    correlation: float | None = None


class Louder:
    """How much louder what leaves a processor is than what comes to it: short-term loudness (EBU Tech 3341), at first
    of less than three seconds. What is late within the processor is not lined up: of three seconds it is nothing.
    """

    def __init__(self, sample_rate: int) -> None:
        self._meters = [LoudnessMeter(sample_rate=sample_rate) for _ in range(2)]
        self._tenths, self._rate = 0.0, sample_rate

    def feed(self, before: Array, after: Array) -> float | None:
        """Take in a block; in LU, None while there is too little to compare."""
        self._tenths += 10.0 * before.shape[1] / self._rate
        steps = min(SHORT_TERM_TENTHS, int(self._tenths))
        loudness = []
        for meter, sound in zip(self._meters, (before, after), strict=True):
            meter.feed(np.ascontiguousarray(sound))
            lufs = meter.latest_lufs(steps) if steps >= LEAST_TENTHS else None
            loudness.append(-np.inf if lufs is None else lufs)
        come, gone = loudness
        return gone - come if min(come, gone) > QUIET_LUFS else None


class Watcher:
    """Looks at a mixer after each of its blocks."""

    def __init__(self, *, sample_rate: int) -> None:
        self._rate = sample_rate
        self._watched = Watched()
        self._spectra: dict[str, SpectrumOfNow] = {}
        self._loud: dict[str, Louder] = {}
        self._correlation, self._sums = Correlation(sample_rate=sample_rate), np.zeros(5)
        self._since_frames = 0.0
        self._heard: tuple[ProcessorEntry, BandLevels] | None = None  # of the processor on the bench

    def watch(self, watched: Watched) -> None:
        """Look at something else from now on."""
        if watched != self._watched:
            if watched.strip_id != self._watched.strip_id:
                self._loud, self._correlation = {}, Correlation(sample_rate=self._rate)
            self._watched, self._spectra = watched, {}

    def look(self, mixer: Mixer) -> Sight:
        """What there is to see."""
        watched = self._watched
        player = mixer.graph.players.get(watched.strip_id)
        if player is None:
            return Sight({}, {}, None, {})
        chain = player.chain.chain
        due = watched.spectra and self._due(player.plain.shape[1])
        bands, curve, in_charge = self._processor(chain, due)
        spectra = self._spectra_of(mixer, due) if watched.spectra else {}
        heard_db = self._heard_db(chain, due) if watched.spectra else {}
        louder = self._louder_lu(chain)
        alike = self._alike(player.placed)
        return Sight(chain.points_db(), bands, curve, spectra, chain.moved_now(), in_charge, heard_db, louder, alike)

    def _alike(self, placed: Array) -> float | None:
        stereo_sums(placed, self._sums)
        _, _, left, right, product = self._sums.tolist()
        return self._correlation.feed(placed.shape[1], left, right, product)

    def _heard_db(self, chain: Chain, due: bool) -> dict[str, float]:
        """Take in what the bands of the processor on the bench hear; when due, the loudest of it."""
        entry = next((e for e in chain.entries if e.id == self._watched.processor_id and e.on), None)
        if entry is None:
            return {}
        if self._heard is None or self._heard[0] is not entry:
            self._heard = entry, BandLevels(entry, 1, self._rate)
        levels = self._heard[1]
        levels.feed(chain)
        return levels.taken_db() if due else {}

    def _louder_lu(self, chain: Chain) -> dict[str, float]:
        """Take in the block of every processor that is on."""
        told: dict[str, float] = {}
        for entry in chain.entries:
            around = chain.around(entry.id) if entry.on else None
            if around is not None:
                louder = self._loud.setdefault(entry.id, Louder(self._rate))
                lu = louder.feed(around.before, around.after)
                if lu is not None:
                    told[entry.id] = lu
        self._loud = {k: louder for k, louder in self._loud.items() if any(k == e.id for e in chain.entries)}
        return told

    def _processor(self, chain: Chain, due: bool) -> tuple[dict[str, float], Array | None, int]:
        """Gains and, when due, curve of the processor on the bench, the curve only of one that works by frequency; and
        who of its detectors is in charge.
        """
        for entry, told, _ in chain.gains():
            if entry.id == self._watched.processor_id:
                gains = {name: float(row[-1]) for name, row in told.items() if name.endswith("gain_db")}
                in_charge = int(told[IN_CHARGE][-1]) if IN_CHARGE in told else 0
                if not (due and "spectrum" in PROCESSORS[entry.type].views):
                    return gains, None, in_charge
                now = chain.now_db(entry.id, POINTS_HZ)
                if now is None:
                    now = response_db(entry.type, entry.settings, POINTS_HZ, gains, self._rate)
                return gains, now, in_charge
        return {}, None, 0

    def _spectra_of(self, mixer: Mixer, due: bool) -> dict[str, Array]:
        """Take in the block of every signal that is looked at; when due, their spectra."""
        watched = self._watched
        player = mixer.graph.players[watched.strip_id]
        chain = player.chain.chain
        around = chain.around(watched.processor_id)
        before, after = (around.before, around.after) if around else (player.fed, player.plain)
        signals = {"source": before, "result": after}
        heard = chain.heard(watched.processor_id, watched.band)
        if heard is not None:
            signals["key"] = heard.signal
        other = mixer.graph.players.get(watched.beside)
        if other is not None:
            signals["beside"] = other.plain
        for name, signal in signals.items():
            known = self._spectra.get(name)
            if known is None or known.channels != signal.shape[0]:  # a key from elsewhere may have more or fewer
                self._spectra[name] = SpectrumOfNow(signal.shape[0], sample_rate=self._rate)
            self._spectra[name].feed(signal)
        return {name: to_db(self._spectra[name].power()) for name in signals} if due else {}

    def _due(self, frames: int) -> bool:
        """Whether, with these frames, so many have passed that the next reading is wanted."""
        self._since_frames += frames
        every = self._rate / READINGS_PER_S
        due = self._since_frames >= every
        if due:
            self._since_frames = min(self._since_frames - every, every)
        return due
