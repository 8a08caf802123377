"""What is found in generated takes, and how long it takes: thirty variants a kind, with seeds; librosa's own on the
same audio, where it is installed (it is no part of the project: pip install librosa).

    python -m benchmarks.finding
"""

import importlib.util
import tempfile
import time
from pathlib import Path

import mir_eval
import numpy as np
from tests.reference.grooves import groove

from reins.core.chainfile import parse_entry
from reins.core.finding.marks import Marks
from reins.core.laid import LaidTake
from reins.core.processors import PROCESSORS
from reins.core.sessions import Track
from reins.core.takes import Take, write_take
from reins.core.time import Beat
from reins.core.trials.aims import AIMS, Work
from reins.core.trials.running import Trial
from reins.demo import drums, voices
from reins.demo.score import RATE
from reins.services.aiming import proposed

VARIANTS = 30


def take_of(sound, folder):
    """A sound as a take."""
    place = Path(folder) / str(time.perf_counter_ns())
    write_take(place, [sound], channels=sound.shape[0], sample_rate=RATE)
    return LaidTake(Take(place), Track(name="x"))


def grooves(folder):
    """Hits and tempo of grooves, against librosa's."""
    ours, theirs, tempi, their_tempi = [], [], 0, 0
    librosa = importlib.import_module("librosa") if importlib.util.find_spec("librosa") else None
    for seed in range(VARIANTS):
        rng = np.random.default_rng(seed)
        bpm, swing = float(rng.uniform(60, 180)), float(rng.integers(2))
        noise_db, level_db = [None, -60.0, -45.0][seed % 3], float(rng.uniform(-24, 0))
        sound, hits, _ = groove(bpm, swing=swing, seed=seed, noise_db=noise_db, level_db=level_db)
        marks = Marks.of(take_of(sound, folder))
        both = np.array(sorted({round(at, 4) for at in hits}))
        found = np.array([hit.at_s for hit in marks.hits])
        near = found[[np.abs(both - at).min() < 0.1 for at in found]]  # hats lie between and count for neither
        ours.append(mir_eval.onset.f_measure(both, near, window=0.03)[0])
        tempi += marks.tempo is not None and abs(marks.tempo.bpm - bpm) < 0.5
        if librosa:
            onset = librosa.onset.onset_detect(y=sound[0].astype(np.float32), sr=RATE, units="time")
            near = onset[[np.abs(both - at).min() < 0.1 for at in onset]]
            theirs.append(mir_eval.onset.f_measure(both, near, window=0.03)[0] if near.size else 0.0)
            bpms = librosa.beat.beat_track(y=sound[0].astype(np.float32), sr=RATE)[0]
            their_tempi += abs(float(np.atleast_1d(bpms)[0]) - bpm) < 0.5
    print(f"hits of {VARIANTS} grooves: F {np.mean(ours):.3f}, least {min(ours):.3f}; tempo right {tempi}")
    if librosa:
        print(f"  librosa: F {np.mean(theirs):.3f}, least {min(theirs):.3f}; tempo right {their_tempi}")


def demo_drums(folder):
    """Hits of the demo's drums, against librosa's."""
    librosa = importlib.import_module("librosa") if importlib.util.find_spec("librosa") else None
    kick, hats = drums.make_kick(), drums.make_hats()
    snare = drums.make_snare(kick, hats)
    for name, sound, hits in (("kick", kick, drums.kick_hits()), ("snare", snare, drums.snare_hits())):
        truth = np.array([at for at, _ in hits])
        found = np.array([hit.at_s for hit in Marks.of(take_of(sound, folder)).hits])
        line = f"{name} of the demo: F {mir_eval.onset.f_measure(truth, found, window=0.03)[0]:.3f}"
        if librosa:
            onset = librosa.onset.onset_detect(y=sound[0].astype(np.float32), sr=RATE, units="time")
            line += f"; librosa {mir_eval.onset.f_measure(truth, onset, window=0.03)[0]:.3f}"
        print(line)


def sibilants(folder):
    """Sibilants of the singer at other levels and in noise."""
    truth = np.array([one.consonant_s for one in voices.sung_syllables() if one.consonant in ("s", "sh")])
    singer, scores = voices.make_singer(), []
    for seed in range(VARIANTS):
        rng = np.random.default_rng(seed)
        sound = singer * 10 ** (rng.uniform(-24, 3) / 20)
        sound = sound + 10 ** (rng.uniform(-80, -50) / 20) * np.abs(sound).max() * rng.standard_normal(sound.shape)
        found = np.array([begin for begin, _ in Marks.of(take_of(sound, folder)).sibilants])
        scores.append(mir_eval.onset.f_measure(truth, found, window=0.04)[0] if found.size else 0.0)
    print(f"sibilants of {VARIANTS} variants: F {np.mean(scores):.3f}, least {min(scores):.3f}")


def depths(folder):
    """Hits of grooves held by what was asked for."""
    misses = []
    for seed in range(VARIANTS):
        rng = np.random.default_rng(100 + seed)
        sound, _, _ = groove(float(rng.uniform(70, 160)), seed=seed, bars=4, level_db=float(rng.uniform(-20, 0)))
        asked = float(rng.uniform(2, 8))
        misses.append(abs(aimed("hits", take_of(sound, folder), asked).figures["got_db"] - asked))
    print(f"depth of {VARIANTS} grooves: off by {np.mean(misses):.2f} dB, at most {max(misses):.2f}")


def aimed(name, take, asked, marks=None, *, first=False):
    """A proposal."""
    aim = AIMS[name]
    settings = {k: v for k, v in aim.base.items() if k in PROCESSORS[aim.types[0]].Settings.model_fields}
    entry = parse_entry({"id": "p", "type": aim.types[0], "settings": settings}, "x")
    return proposed(aim, Work(Trial(take, [entry], {}, Beat(120)), marks or Marks.of(take), asked), first=first)


def five_minutes(folder):
    """How long marks and first proposals take on five minutes in stereo."""
    kick, hats = drums.make_kick(), drums.make_hats()
    room = drums.make_room(kick, drums.make_snare(kick, hats), hats)
    singer = np.repeat(voices.make_singer(), 2, axis=0)
    for name, sound, asked in (
        ("hits", room, 4.0), ("within", singer, 6.0), ("open", room, 0.0), ("silence", singer, 20.0),
        ("esses", singer, 6.0), ("bands", room, 3.0),
    ):  # fmt: skip
        take = take_of(np.tile(sound, (1, 8))[:, : 300 * RATE], folder)
        for _ in range(2):  # kernels are compiled at their first call
            began = time.perf_counter()
            marks = Marks.of(take)
            _ = marks.hits, marks.phrases, marks.sibilants
            marked = time.perf_counter() - began
            quick = aimed(name, take, asked, marks, first=True)
            first = time.perf_counter() - began
            proposal = aimed(name, take, asked, marks)
            whole = time.perf_counter() - began - first
        told = [p.figures.get("got_db", "") for p in (quick, proposal)]
        print(f"{name}: marks {marked:.2f} s, first proposal after {first:.2f} s, settled in {whole:.2f} s; got {told}")


def main():
    """All of it."""
    with tempfile.TemporaryDirectory() as folder:
        for part in (demo_drums, grooves, sibilants, depths, five_minutes):
            part(folder)


if __name__ == "__main__":
    main()
