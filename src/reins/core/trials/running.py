"""A chain run over a sound by itself, as it would run in the session."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.engine.chain import Chain
from reins.core.engine.entries import wants_spectrum
from reins.core.engine.offline import run_chain
from reins.core.laid import is_take, reader
from reins.core.moves.models import Rein
from reins.core.moves.rules import of_chain_alone
from reins.core.sessions import Bus, Master, Track
from reins.core.sound import Sound
from reins.core.time import Beat, Stream, When

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Trial:
    """A sound on the session's timeline, a chain for it, the outside keys it names, and the session's beat."""

    sound: Sound
    entries: list[ProcessorEntry]
    keys: Mapping[str, Sound] = field(default_factory=dict)
    beat: Beat = field(default_factory=Beat)
    reins: Sequence[Rein] = ()
    strip: Track | Bus | Master | None = None  # whose chain it is, where what that puts out is wanted

    def chain(self) -> Chain:
        """The chain, at rest."""
        facts = self.sound.facts
        return Chain(
            self.entries, channels=facts.channels, sample_rate=facts.sample_rate,
            key_channels={name: key.facts.channels for name, key in self.keys.items()},
            spectrum=self.sound.spectrum() if wants_spectrum(self.entries) else None, on_take=is_take(self.sound),
            reins=of_chain_alone(self.reins), strip=self.strip,
        )  # fmt: skip

    def run(
        self, start: int, frames: int, *, block_frames: int, chain: Chain | None = None
    ) -> Iterator[tuple[Array, list[Array]]]:
        """Blocks of the result for frames start .. start + frames, and the moving gains beside it; see run_chain."""
        keys = {name: reader(key, start) for name, key in self.keys.items()}
        return run_chain(
            chain or self.chain(), reader(self.sound, start), frames, block_frames=block_frames, keys=keys,
            place=When(Stream(start), 0, 0, self.sound.facts.sample_rate, self.beat),
        )  # fmt: skip
