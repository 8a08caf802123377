"""The singer and the announcer: harmonics shaped by formants, and real noise for s, sh and t; no real words.

A syllable is a consonant and a vowel. Harmonics are added one by one up to 10 kHz, so nothing aliases.
"""

import itertools
from dataclasses import dataclass

import numpy as np
import scipy.signal

from reins.demo.score import BAR_S, FRAMES, RATE, STEP_S, Array, hz, lin, peak_at, place, silence, time_of

# Formant frequencies (Hz) and bandwidths (Hz) of five vowels, rounded from common handbook tables (from memory).
VOWELS = {
    "a": ((750, 90), (1200, 110), (2600, 160), (3400, 220)),
    "e": ((480, 80), (1900, 110), (2600, 160), (3500, 220)),
    "i": ((300, 70), (2250, 110), (3000, 170), (3600, 220)),
    "o": ((470, 80), (850, 100), (2500, 160), (3300, 220)),
    "u": ((330, 70), (750, 90), (2400, 160), (3300, 220)),
}
ESS_BAND_HZ = (6000.0, 9000.0)
# Band (Hz) and length (s) of the noise of each consonant.
CONSONANTS = {"s": (ESS_BAND_HZ, 0.11), "sh": ((2500, 5200), 0.12), "t": ((3000, 8000), 0.03)}

# Fault: the verse is sung quietly, the chorus line shouted; RMS of the vowels, dB apart.
CHORUS_OVER_VERSE_DB = 14.0
# Fault: esses in ESS_BAND_HZ are this much hotter than a balanced s, which lies NATURAL_ESS_DB below the vowel (RMS).
NATURAL_ESS_DB = -10.0
ESS_HOT_DB = 8.0
# Fault: room noise behind the announcer, RMS below the RMS of the speech.
ROOM_NOISE_DB = -40.0

# (bar, step, length in steps, consonant, vowel, MIDI note)
VERSE_LINE = (
    (0, "s", "a", 62), (3, "", "i", 64), (6, "t", "o", 65), (9, "s", "e", 64), (12, "sh", "u", 62),
)  # fmt: skip
CHORUS_LINE = (
    (0, "s", "o", 70), (2, "t", "a", 69), (4, "s", "i", 72), (8, "sh", "a", 74), (11, "s", "e", 72), (14, "", "o", 69),
)  # fmt: skip
ANNOUNCER_PHRASES = (
    (0.50, ("t", "a"), ("s", "i"), ("", "o"), ("sh", "e"), ("t", "a"), ("", "u"), ("s", "a")),
    (2.90, ("", "e"), ("s", "o"), ("t", "i"), ("", "a"), ("sh", "o"), ("t", "e")),
    (35.20, ("s", "a"), ("t", "e"), ("", "i"), ("s", "o"), ("", "a"), ("t", "u")),
    (37.60, ("sh", "i"), ("", "a"), ("t", "o"), ("s", "e"), ("", "o")),
)


@dataclass(frozen=True)
class Syllable:
    """One syllable as placed: when the consonant and the vowel begin and end, what they are, how loud."""

    consonant: str
    vowel: str
    consonant_s: float
    start_s: float
    end_s: float
    midi: float
    level_db: float


def sung_syllables() -> list[Syllable]:
    """Every syllable of the singer; a truth that tests may ask for."""
    placed = []
    for bars, line, level_db in (
        (range(3, 8), VERSE_LINE, -CHORUS_OVER_VERSE_DB),
        (range(8, 14), CHORUS_LINE, 0.0),
    ):
        for bar in bars:
            for index, (step, consonant, vowel, midi) in enumerate(line):
                end = line[index + 1][0] if index + 1 < len(line) else 16
                lead = CONSONANTS[consonant][1] if consonant else 0.0
                start = time_of(bar, step) + 0.12
                stop = start + (end - step) * STEP_S - 0.16
                placed.append(Syllable(consonant, vowel, start - lead, start, stop, midi + 0.0, level_db))
    return placed


def spoken_syllables() -> list[Syllable]:
    """Every syllable of the announcer, phrase after phrase."""
    placed = []
    for phrase_s, *syllables in ANNOUNCER_PHRASES:
        at = phrase_s
        for index, (consonant, vowel) in enumerate(syllables):
            lead = CONSONANTS[consonant][1] * 0.7 if consonant else 0.0
            length = 0.13 + 0.035 * (index % 3)
            level_db = (0.0, -3.0, -1.5, -4.0)[index % 4]
            midi = 47 - 0.8 * index + (2.0 if index % 3 == 0 else 0.0)
            placed.append(Syllable(consonant, vowel, at, at + lead, at + lead + length, midi, level_db))
            at += lead + length + 0.015
    return placed


def _vowel(syllable: Syllable, *, vibrato_cents: float, rng: np.random.Generator) -> Array:
    """The voiced part at RMS 1 over its length."""
    t = np.arange(round((syllable.end_s - syllable.start_s) * RATE)) / RATE
    bend = vibrato_cents * np.sin(2 * np.pi * 5.3 * t) * np.minimum(t / 0.25, 1.0) - 40 * np.exp(-t / 0.04)
    f0 = hz(syllable.midi) * 2.0 ** (bend / 1200)
    phase = 2 * np.pi * np.cumsum(f0) / RATE
    centre = hz(syllable.midi)
    voice = np.zeros(t.size)
    turn = np.exp(1j * phase)
    harmonic = np.ones(t.size, complex)
    for k in range(1, int(10000 / centre) + 1):
        f = k * centre
        harmonic *= turn
        height = sum(
            lin(-6.0 * i) / (1.0 + ((f - at) / (width * 0.8)) ** 2)
            for i, (at, width) in enumerate(VOWELS[syllable.vowel])
        )
        voice += (height + 0.02) * k**-0.6 * harmonic.real
    breath = scipy.signal.sosfilt(
        scipy.signal.butter(1, 2500, "highpass", fs=RATE, output="sos"), rng.standard_normal(t.size)
    )
    voice += 0.01 * np.abs(voice).max() * breath
    shape = np.clip(np.minimum(t / 0.025, (t[-1] - t) / 0.06), 0, 1)
    return np.asarray(shape * voice / np.sqrt(np.mean(voice**2)))


def _consonant(kind: str, length_s: float, rng: np.random.Generator) -> Array:
    """The noise at RMS 1 over its middle."""
    band, _ = CONSONANTS[kind]
    n = round((length_s + 0.02) * RATE)
    noise = scipy.signal.sosfilt(
        scipy.signal.butter(4, band, "bandpass", fs=RATE, output="sos"), rng.standard_normal(n + RATE)
    )[RATE:]
    t = np.arange(n) / RATE
    attack = 0.002 if kind == "t" else 0.025
    shape = np.clip(np.minimum(t / attack, (t[-1] - t) / 0.03), 0, 1)
    return np.asarray(shape * noise / np.sqrt(np.mean(noise**2)))


def _speak(syllables: list[Syllable], *, vibrato_cents: float, hot_db: float, seed: int) -> Array:
    rng = np.random.default_rng(seed)
    take = silence()
    for syllable in syllables:
        level = lin(syllable.level_db)
        place(take, _vowel(syllable, vibrato_cents=vibrato_cents, rng=rng), syllable.start_s, level)
        if syllable.consonant:
            hot = hot_db if syllable.consonant == "s" else 0.0
            noise = _consonant(syllable.consonant, syllable.start_s - syllable.consonant_s, rng)
            place(take, noise, syllable.consonant_s, level * lin(NATURAL_ESS_DB + hot))
    return take


def make_singer() -> Array:
    """Mono take, loudest sample at -4 dB."""
    return peak_at(_speak(sung_syllables(), vibrato_cents=25, hot_db=ESS_HOT_DB, seed=606), -4.0)


def make_announcer() -> Array:
    """Mono take: speech over a noisy room that never stops; loudest sample at -8 dB."""
    syllables = spoken_syllables()
    speech = _speak(syllables, vibrato_cents=0, hot_db=0.0, seed=707)
    spoken = np.zeros(FRAMES, bool)
    for syllable in syllables:
        spoken[round(syllable.consonant_s * RATE) : round(syllable.end_s * RATE)] = True
    rms = np.sqrt(np.mean(speech[0, spoken] ** 2))
    noise = scipy.signal.sosfilt(
        scipy.signal.butter(1, 900, fs=RATE, output="sos"), np.random.default_rng(808).standard_normal(FRAMES)
    )
    return peak_at(speech + lin(ROOM_NOISE_DB) * rms * noise / np.sqrt(np.mean(noise**2)), -8.0)


def gaps_s() -> list[tuple[float, float]]:
    """Stretches between the announcer's phrases, at least 150 ms away from any speech."""
    syllables = spoken_syllables()
    edges = [(0.0, 0.0)] + [(s.consonant_s, s.end_s) for s in syllables] + [(16 * BAR_S, 16 * BAR_S)]
    pairs = itertools.pairwise(edges)
    return [(a[1] + 0.15, b[0] - 0.15) for a, b in pairs if b[0] - a[1] > 0.5]
