"""The offline clock: a chain over a stream of blocks, or a mix over a span, as fast as it goes."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from reins.core.engine.chain import Chain
from reins.core.engine.graph import Graph
from reins.core.engine.mixer import BLOCK_FRAMES, Mixer
from reins.core.engine.plan import Plan
from reins.core.leading import leading_to
from reins.core.routing import destination, strip_ids
from reins.core.sessions import FADER_OFF_DB, MASTER, Document
from reins.core.soloing import heard
from reins.core.takes import Take
from reins.core.time import Stream, When
from reins.core.units import db_to_lin
from reins.errors import StorageError

Array = npt.NDArray[np.float64]
RENDER_FRAMES = 8192
Told = dict[str, str]  # sentences on what has failed, by what it is


def run_chain(
    chain: Chain,
    take: Callable[[int], Array],
    frames: int,
    *,
    block_frames: int,
    keys: Mapping[str, Callable[[int], Array]] = {},
    place: When | None = None,
) -> Iterator[tuple[Array, list[Array]]]:
    """Blocks of a chain's result, lined up with its source and equally long in all.

    take(n) gives the next n frames of the source, silence after its end; keys likewise. Yields the result with the
    moving gains beside it, in the chain's order, each shifted by the latency it acts at: row n of a gain belongs to
    frame n of the source. Gains keep the length of the result's block. place: that of the first frame, by default the
    beginning of time.
    """
    waiting, given = chain.latency_frames, 0
    when = None if place is None else replace(place, first=place.first - waiting, frames=block_frames)
    skips: list[int] | None = None
    heads: list[Array] = []
    while given < frames:
        result = chain.process(take(block_frames), {name: key(block_frames) for name, key in keys.items()}, when)
        when = None if when is None else when.later(block_frames)
        rows = chain.gains()
        fresh = [gain for _, moving, _ in rows for gain in moving.values()]
        if skips is None:
            skips = [latency for _, moving, latency in rows for _ in moving]
            heads = [np.zeros(0) for _ in skips]
        heads = [np.concatenate([h, g[s:]]) for h, g, s in zip(heads, fresh, skips, strict=True)]
        skips = [max(0, s - block_frames) for s in skips]
        count = min(max(block_frames - waiting, 0), frames - given)
        if count:
            yield np.ascontiguousarray(result[:, waiting : waiting + count]), [h[:count] for h in heads]
            heads = [h[count:] for h in heads]
            given += count
        waiting = max(0, waiting - block_frames)


def render_mix(mixer: Mixer, start: int, end: int, *, block_frames: int = BLOCK_FRAMES) -> Iterator[Array]:
    """Stereo blocks of the mix from frame start to end, the last one shorter."""
    mixer.start(Stream(start))
    for first in range(start, end, block_frames):
        yield mixer.process(min(block_frames, end - first))


def render_graph(
    document: Document, takes: dict[str, Take], frames: int, lead: Callable[[Plan], int], told: Told | None = None
) -> Iterator[tuple[Graph, int]]:
    """The graph after each block, and how many frames that has, from the session's first frame to its last.

    It is run behind by `lead` frames of its plan, so that what has this lead is that of those frames. Sentences on
    processors that failed and were passed by are put into `told`; StorageError when a recording cannot be read.
    """
    graph = Graph(document, takes, Stream(0))
    graph.position = -lead(graph.plan)
    graph.run_in()
    for first in range(0, frames, RENDER_FRAMES):
        count = min(RENDER_FRAMES, frames - first)
        graph.process(count)
        failures = graph.failures()
        for what, sentence in failures.items():
            if "/take " in what:
                raise StorageError(sentence)
        if told is not None:
            told.update(failures)
        yield graph, count


def render_strip(
    document: Document, takes: dict[str, Take], strip_id: str, frames: int, told: Told | None = None
) -> Iterator[Array]:
    """What the chain of a strip makes, fader and pan left out, with all that leads to it."""
    reduced = leading_to(document, strip_id, chain=True)
    for graph, count in render_graph(reduced, takes, frames, lambda plan: plan.out_lead[strip_id], told):
        yield graph.players[strip_id].plain[:, :count]


def render_placed(
    document: Document, takes: dict[str, Take], strip_id: str, frames: int, told: Told | None = None
) -> Iterator[Array]:
    """What a strip gives after fader and pan, with all that leads to it; of a document that is `leading_to` it."""
    for graph, count in render_graph(document, takes, frames, lambda plan: plan.out_lead[strip_id], told):
        yield graph.players[strip_id].placed[:, :count]


def render_incoming(document: Document, takes: dict[str, Take], strip_id: str, frames: int) -> Iterator[Array]:
    """What comes to a bus or the master, before its chain."""
    for graph, count in render_graph(document, takes, frames, lambda plan: plan.in_lead[strip_id]):
        yield graph.players[strip_id].fed[:, :count]


def stem_ids(document: Document) -> list[str]:
    """The strips whose sum the master hears, in the order they are shown; those that are not heard are left out."""
    return [
        k for k in strip_ids(document)
        if k != MASTER and destination(document, k) == MASTER and heard(document, k).whole
    ]  # fmt: skip


def render_mix_and_stems(
    document: Document, takes: dict[str, Take], frames: int, told: Told | None = None
) -> Iterator[tuple[Array, dict[str, Array]]]:
    """Blocks of the mix with its stems: what the master hears, after its fader and before its chain.

    While nothing on the master's chain is on, the stems add up to the mix.
    """
    fader_db = document.master.fader_db
    fader = db_to_lin(fader_db) if fader_db > FADER_OFF_DB else 0.0
    stems = stem_ids(document)
    for graph, count in render_graph(document, takes, frames, lambda plan: plan.out_lead[MASTER], told):
        players = graph.players
        parts = {k: fader * players[k].aligned[:, :count] for k in stems if k in players}
        yield players[MASTER].aligned[:, :count], parts
