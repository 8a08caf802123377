"""Handing over: a track's result as a file, the same samples that are heard."""

from collections.abc import Callable
from pathlib import Path

from reins.core.audio import AudioWriter
from reins.core.engine.chain import Chain
from reins.core.engine.offline import run_chain
from reins.services.editing import document_of
from reins.services.house import House

BLOCK_FRAMES = 8192


def export_track(
    house: House, session_id: str, track_id: str, path: Path, *, file_format: str, bits: str,
    progress: Callable[[int, int], None],
) -> dict[str, int]:  # fmt: skip
    """Write a track's take through its chain (fader and pan left out), from its first frame to its last.

    Returns {"frames", "clipped_frames"}. Nothing half-written is left when it fails or is cancelled.
    """
    document = document_of(house, session_id)
    track = document.track(track_id)
    take = house.take(track.take_id)
    facts = take.facts
    chain = Chain(track.chain, channels=facts.channels, sample_rate=facts.sample_rate)
    position = 0

    def read(count: int):
        nonlocal position
        position += count
        return take.read(position - count, count)

    with AudioWriter(
        path, channels=facts.channels, sample_rate=facts.sample_rate, file_format=file_format, bits=bits
    ) as writer:
        done = 0
        for block, _ in run_chain(chain, read, facts.frames, block_frames=BLOCK_FRAMES):
            writer.write(block)
            done += block.shape[1]
            progress(done, facts.frames)
    return {"frames": done, "clipped_frames": writer.clipped_frames}
