"""What each starting point is to do to a take of its source, by type and name; common practice, as the points are.

A point without one (a filter, a room, colour, a level) does what its settings say on any take; it only passes full
scale nowhere. What a ducker is to do, its key says (trials.ducking).
"""

from reins.core.starting_point import Promise, Range


def _held(low: float, high: float, deepest: float, **more: float) -> Promise:
    return Promise(usual_db=((low, high),), deepest_db=deepest, **more)  # type: ignore[arg-type]


def _bands(*usual: Range, deepest: float, **more: float) -> Promise:
    return Promise(usual_db=usual, deepest_db=deepest, **more)  # type: ignore[arg-type]


_COMPRESSOR = {
    "Voice, even lines": _held(2, 6, 14),
    "Speech, close and steady": _held(2, 6, 14),
    "Snare, attack left as it is": _held(1.5, 6, 10, first_db=2),
    "Kick, even hits": _held(1.5, 6, 10),
    "Drum bus, 2:1 and slow": _held(1, 3, 6),
    "Bass, even notes": _held(2, 6, 12),
    "Acoustic guitar, strummed": _held(1.5, 4, 8),
    "Electric guitar, chords even": _held(1.5, 4, 8),
    "Piano, without pulsing": _held(1, 3, 9),
    "Whole mix, one or two dB": _held(0.8, 2.2, 4),
}
_FET = {
    "Acoustic guitar, forward": _held(1.5, 5, 10),
    "Voice, catch what is left": _held(0.8, 5, 12, held_pct=38),
    "Snare, attack and ring": _held(1, 6, 12),
    "Room microphone, crushed": _held(9, 16, 30),
    "Bass, notes in front": _held(2, 6, 12),
}
_OPTICAL = {
    "Voice, not to be heard": _held(1.5, 5, 12),
    "Speech, firm": _held(2, 6, 12),
    "Bass, long notes": _held(2, 5, 12),
    "Acoustic guitar, picked": _held(1.5, 4, 9),
    "Whole mix, one decibel": _held(0.6, 1.4, 3.5),
}
_VARIABLE_MU = {
    "Bass, round and level": _held(2, 6, 12),
    "Whole mix, two decibels": _held(1.5, 2.5, 5),
    "Drum bus, leaned on": _held(2, 5, 12),
    "Voice, forward and bright": _held(1.5, 5, 12),
    "Backing voices, glued": _held(1.5, 5, 12),
}
_THREE_SPEED = {
    "Drum bus, hits and room": _held(1.5, 5, 12),
    "Whole mix, nothing sticks out": _held(1, 3, 8),
    "Voice, words and lines": _held(2, 6, 14),
    "Bass, plucks and notes": _held(2, 6, 12),
}
_GATE = {
    "Snare, only its own hits": Promise(hits_pct=90, rests_db=10, lays="hits"),
    "Kick, hits alone": Promise(hits_pct=90, rests_db=10, lays="hits"),
    "Speech, a quiet room between phrases": Promise(sounds_db=1, rests_db=10),
    "Drums, 6 dB less between hits": Promise(hits_pct=90, rests_db=3, lays="hits"),
}
_EXPANDER = {
    "Kick, attack raised": _held(1, 4, 6),
    "Hats and snare, attack raised": _held(1, 4, 5.5),
    "Drum bus, livelier": _held(0.8, 3, 6),
    "Voice, stronger lines": _held(0.8, 3, 4),
    "Voice, less room": Promise(sounds_db=1, rests_db=6),
}
_LIMITER = {
    "Drum bus, catch the peaks": Promise(usual_db=((0.8, 3),), deepest_db=6, held_pct=30, lays="ceiling_db"),
}
_DEESSER = {
    "Voice, loud esses": _held(2, 5.5, 6, held_pct=30),
    "Speech, close microphone": _held(1.5, 5.5, 7, held_pct=35),
    "Electric guitar, harshness at 3 to 6 kHz": _held(1, 4, 6),
    "Cymbals, less harsh": _held(1, 4, 6),
    "Guitar, fingers on strings near 2 kHz": _held(0.8, 4, 6, held_pct=75),
    "Kick, the beater near 3 kHz": _held(1.5, 6, 8, held_pct=40),
    "Whole mix, esses in the middle": _held(1, 4, 5, held_pct=40),
}
_DYNAMIC_EQ = {
    "Bass, one loud note": Promise(usual_db=((1.5, 6),), deepest_db=10, held_pct=60, lays="note"),
    "Kick, lows up, 320 Hz down": _held(1, 4, 5),
    "Voice, lows and presence": _held(1, 4, 6),
    "Drum bus, three parts without crossovers": _held(0.8, 3, 8),
    "Whole mix, four parts without crossovers": _held(0.8, 2.5, 5),
    "Whole mix, six parts without crossovers": _held(0.8, 2.5, 5),
    "Whole mix, spare the voice": _held(1, 3.5, 6),
}
_MULTIBAND = {
    "Drum bus, three bands": _held(1, 4, 9),
    "Bass, lows even, highs free": _bands((2, 5), (0.6, 2.5), deepest=14),
    "Whole mix, gentle balance": _held(0.8, 2.5, 6),
}
_CURVE = {
    "Voice, loud held, quiet up": _held(1, 8, 9),
    "Drum bus, closed below": Promise(hits_pct=90, rests_db=1.5),
    "Room microphone, the quiet up": _held(1, 8, 13),
    "Bass, bent softly": _held(0.5, 3, 7),
}
_FINE_BANDS = {
    "Cymbals, ringing down": _held(1.5, 6, 12),
    "A whistle of the room": Promise(tones_db=6, lays="tones"),
    "Voice, harsh notes": _held(0.8, 5, 9),
    "Speech, hum and hiss closed": Promise(sounds_db=1, rests_db=10, lays="pauses"),
}

PROMISES: dict[tuple[str, str], Promise] = {
    (kind, name): promise
    for kind, promises in (
        ("compressor", _COMPRESSOR), ("fet", _FET), ("optical", _OPTICAL), ("variable_mu", _VARIABLE_MU),
        ("three_speed", _THREE_SPEED), ("gate", _GATE), ("expander", _EXPANDER), ("limiter", _LIMITER),
        ("deesser", _DEESSER), ("dynamic_eq", _DYNAMIC_EQ), ("multiband", _MULTIBAND), ("curve", _CURVE),
        ("fine_bands", _FINE_BANDS),
    )
    for name, promise in promises.items()
}  # fmt: skip
