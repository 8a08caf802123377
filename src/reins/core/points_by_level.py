"""Starting points of what follows the level, from common practice."""

from typing import Any

from reins.core.starting_point import StartingPoint


def _compressor(source: str, name: str, sentence: str, **settings: Any) -> StartingPoint:
    return StartingPoint("compressor", source, name, sentence, settings)


BY_LEVEL = (
    _compressor(
        "voice", "Voice, even lines",
        "A gentle ratio on the average brings quiet and loud lines together; the slow release is not heard.",
        threshold_db=-24, ratio=3, knee_db=9, attack_ms=8, release_ms=90, auto_release=True, rms_pct=70, rms_ms=25,
        key={"low_cut_hz": 100},
    ),
    _compressor(
        "speech", "Speech, close and steady",
        "Firm and quick, so that every word is understood; the low cut keeps pops from driving it.",
        threshold_db=-28, ratio=4, knee_db=6, attack_ms=4, release_ms=120, rms_pct=60, rms_ms=20,
        key={"low_cut_hz": 120},
    ),
    _compressor(
        "snare", "Snare, attack left as it is",
        "The slow attack leaves the start of the hit and turns down what follows.",
        threshold_db=-22, ratio=4, knee_db=4, attack_ms=14, release_ms=110,
    ),
    _compressor(
        "kick", "Kick, even hits",
        "Quick enough to even out hits of different strength, with a release that is over before the next one.",
        threshold_db=-16, ratio=5, knee_db=2, attack_ms=6, release_ms=90,
    ),
    _compressor(
        "drum bus", "Drum bus, 2:1 and slow",
        "A little hold on the whole kit with a slow attack; the low cut keeps the kick from moving all else.",
        threshold_db=-18, ratio=2, knee_db=8, attack_ms=30, release_ms=120, auto_release=True, key={"low_cut_hz": 90},
    ),
    _compressor(
        "bass", "Bass, even notes",
        "Average detection follows the note, and a release long enough not to distort the low end.",
        threshold_db=-22, ratio=4, knee_db=6, attack_ms=15, release_ms=220, rms_pct=80, rms_ms=40,
    ),
    _compressor(
        "acoustic guitar", "Acoustic guitar, strummed",
        "A low ratio; the attack of the pick passes.",
        threshold_db=-22, ratio=2.5, knee_db=8, attack_ms=18, release_ms=140, rms_pct=40,
    ),
    _compressor(
        "electric guitar", "Electric guitar, chords even",
        "A moderate ratio that keeps chords under the voice.",
        threshold_db=-20, ratio=3, knee_db=6, attack_ms=12, release_ms=130, rms_pct=50,
    ),
    _compressor(
        "piano", "Piano, without pulsing",
        "Soft and slow: a short release would be heard as level changes.",
        threshold_db=-24, ratio=2, knee_db=12, attack_ms=25, release_ms=400, auto_release=True, rms_pct=60, rms_ms=40,
    ),
    _compressor(
        "whole mix", "Whole mix, one or two dB",
        "One or two dB at a low ratio; lows do not drive it, and it lets go by itself.",
        threshold_db=-22, ratio=1.5, knee_db=10, attack_ms=30, release_ms=150, auto_release=True, rms_pct=50,
        key={"low_cut_hz": 80},
    ),
    StartingPoint(
        "fet", "acoustic guitar", "Acoustic guitar, forward", "Quick on the strokes; the pick is still heard.",
        {"input_db": 8, "ratio": 4, "attack_us": 400, "release_ms": 120},
    ),
    StartingPoint(
        "fet", "voice", "Voice, catch what is left", "Behind a slow one: only the loudest syllables, and back at once.",
        {"input_db": 6, "ratio": 4, "attack_us": 200, "release_ms": 80},
    ),
    StartingPoint(
        "fet", "snare", "Snare, attack and ring", "Slow for its kind: the stroke passes, the ring comes up.",
        {"input_db": 10, "ratio": 8, "attack_us": 3000, "release_ms": 90},
    ),
    StartingPoint(
        "fet", "room", "Room microphone, crushed", "A hard limit that pumps with the hits; to be mixed beneath.",
        {"input_db": 20, "ratio": 20, "crush_pct": 100, "attack_us": 50, "release_ms": 120, "restless_pct": 40},
    ),
    StartingPoint(
        "fet", "bass", "Bass, notes in front", "Long enough not to grit the low notes, colour for small speakers.",
        {"input_db": 9, "ratio": 4, "attack_us": 1500, "release_ms": 400},
    ),
    StartingPoint(
        "optical", "voice", "Voice, not to be heard", "A soft curve brings the lines together; the way back is slow.",
        {"threshold_db": -28, "key": {"low_cut_hz": 80}},
    ),
    StartingPoint(
        "optical", "speech", "Speech, firm", "Firm, and pops do not drive it.",
        {"threshold_db": -30, "firm": True, "key": {"low_cut_hz": 120}},
    ),
    StartingPoint(
        "optical", "bass", "Bass, long notes", "Levels the notes over seconds and leaves their attack.",
        {"threshold_db": -24},
    ),
    StartingPoint(
        "optical", "acoustic guitar", "Acoustic guitar, picked", "Highs drive it more: bright notes do not stick out.",
        {"threshold_db": -30, "highs_pct": 50},
    ),
    StartingPoint(
        "optical", "whole mix", "Whole mix, one decibel", "Barely there; lows do not drive it.",
        {"threshold_db": -16, "key": {"low_cut_hz": 90}},
    ),
    StartingPoint(
        "variable_mu", "bass", "Bass, round and level", "Loud notes come down more than quiet ones; a little darker.",
        {"threshold_db": -26, "bias_pct": 25, "attack_ms": 15, "release_ms": 250, "hue_pct": -30},
    ),
    StartingPoint(
        "variable_mu", "whole mix", "Whole mix, two decibels", "Slow in and slower out; the ratio stays low.",
        {"threshold_db": -22, "attack_ms": 40, "release_ms": 400, "programme": "three", "key": {"low_cut_hz": 80}},
    ),
    StartingPoint(
        "variable_mu", "drum bus", "Drum bus, leaned on", "Driven: hits thicken, what lies between them comes up.",
        {"input_db": 8, "threshold_db": -20, "bias_pct": 50, "attack_ms": 25, "release_ms": 120, "programme": "none",
         "output_db": -4},
    ),
    StartingPoint(
        "variable_mu", "voice", "Voice, forward and bright", "Holds shouted words the most; a bright hue, no louder.",
        {"threshold_db": -26, "attack_ms": 8, "release_ms": 180, "hue_pct": 40},
    ),
    StartingPoint(
        "variable_mu", "voice", "Backing voices, glued", "One hand on all of them; two stages of way back.",
        {"threshold_db": -28, "knee_db": 10, "attack_ms": 20, "release_ms": 300},
    ),
    StartingPoint(
        "three_speed", "drum bus", "Drum bus, hits and room", "Hits are held quickly; the body keeps the room even.",
        {"threshold_db": -24, "ratio": 3, "peaks_db": -6, "hits_db": 3, "hits_attack_ms": 5, "hits_release_ms": 90,
         "body_db": 3, "body_release_ms": 300, "glide_pct": 30},
    ),
    StartingPoint(
        "three_speed", "whole mix", "Whole mix, nothing sticks out", "The body carries it, one way back, barely heard.",
        {"threshold_db": -20, "ratio": 2, "growth_pct": 40, "peaks_db": -3, "hits_db": -3, "body_db": 3,
         "body_attack_ms": 100, "body_release_ms": 800, "glide_pct": 80, "key": {"low_cut_hz": 60}},
    ),
    StartingPoint(
        "three_speed", "voice", "Voice, words and lines", "Hits are syllables, the body is the line, peaks shouts.",
        {"threshold_db": -26, "ratio": 3, "peaks_db": -6, "hits_attack_ms": 4, "hits_release_ms": 120, "body_db": 4,
         "body_attack_ms": 40, "body_release_ms": 500, "glide_pct": 60, "key": {"low_cut_hz": 90}},
    ),
    StartingPoint(
        "three_speed", "bass", "Bass, plucks and notes", "The pluck is held as a hit, the note as the body.",
        {"threshold_db": -24, "ratio": 4, "peaks_db": -24, "hits_attack_ms": 8, "hits_release_ms": 150, "body_db": 3,
         "body_release_ms": 700, "glide_pct": 70},
    ),
    StartingPoint(
        "gate", "snare", "Snare, only its own hits",
        "Listens between 700 Hz and 5 kHz alone: kick and hats do not open it, quiet strokes do.",
        {"threshold_db": -39, "hysteresis_db": 3, "attack_ms": 0.2, "hold_ms": 40, "release_ms": 90, "range_db": 40,
         "lookahead_ms": 2, "key": {"low_cut_hz": 700, "high_cut_hz": 5000}, "oversampling": "auto"},
    ),
    StartingPoint(
        "gate", "kick", "Kick, hits alone",
        "Closes after the hit; the high cut keeps snare and cymbals from opening it.",
        {"threshold_db": -30, "hysteresis_db": 4, "attack_ms": 0.2, "hold_ms": 60, "release_ms": 120, "range_db": 40,
         "lookahead_ms": 2, "key": {"high_cut_hz": 150}, "oversampling": "auto"},
    ),
    StartingPoint(
        "gate", "speech", "Speech, a quiet room between phrases",
        "Opens 20 ms before the voice, stays open through short pauses, then leaves 40 dB less of the room.",
        {"threshold_db": -38, "hysteresis_db": 6, "attack_ms": 5, "hold_ms": 100, "release_ms": 100, "range_db": 40,
         "lookahead_ms": 20, "rms_pct": 100, "rms_ms": 5, "key": {"low_cut_hz": 500}},
    ),
    StartingPoint(
        "gate", "drum bus", "Drums, 6 dB less between hits",
        "What lies between the hits is 6 dB quieter.",
        {"threshold_db": -32, "hysteresis_db": 4, "attack_ms": 0.5, "hold_ms": 50, "release_ms": 140, "range_db": 6,
         "oversampling": "auto"},
    ),
    StartingPoint(
        "expander", "kick", "Kick, attack raised",
        "Raises the beginning of each hit; it is over before the rest of the hit.",
        {"direction": "up", "threshold_db": -14, "ratio": 1.5, "knee_db": 6, "range_db": 6, "attack_ms": 0.5,
         "release_ms": 40, "oversampling": "auto"},
    ),
    StartingPoint(
        "expander", "snare", "Hats and snare, attack raised",
        "Raises the first milliseconds of each hit.",
        {"direction": "up", "threshold_db": -22, "ratio": 1.6, "knee_db": 6, "range_db": 5, "attack_ms": 0.5,
         "release_ms": 60, "oversampling": "auto"},
    ),
    StartingPoint(
        "expander", "drum bus", "Drum bus, livelier",
        "Hits stand out of a flattened kit again; the ratio is small on purpose, more of it sounds torn.",
        {"direction": "up", "threshold_db": -20, "ratio": 1.4, "knee_db": 10, "range_db": 6, "attack_ms": 2,
         "release_ms": 90, "oversampling": "auto"},
    ),
    StartingPoint(
        "expander", "voice", "Voice, stronger lines",
        "Lifts the strong syllables a little further by their average, so that a held-back voice carries.",
        {"direction": "up", "threshold_db": -24, "ratio": 1.3, "knee_db": 12, "range_db": 4, "attack_ms": 15,
         "release_ms": 180, "rms_pct": 80},
    ),
    StartingPoint(
        "expander", "voice", "Voice, less room",
        "Gentler than a gate: what is quiet is turned down a little further, breaths stay.",
        {"direction": "down", "threshold_db": -42, "ratio": 1.8, "knee_db": 10, "range_db": 12, "attack_ms": 4,
         "hold_ms": 60, "release_ms": 200, "rms_pct": 60},
    ),
    StartingPoint(
        "ducker", "bass", "Bass under kick",
        "Down for the length of each hit, back before the next; tie the kick to it.",
        {"amount_db": 9, "threshold_db": -24, "down_ms": 2, "hold_ms": 40, "back_ms": 120, "floor_db": -45,
         "oversampling": "auto"},
    ),
    StartingPoint(
        "ducker", "whole mix", "Band under a speaker",
        "Down while words are spoken, slowly back; below the floor the speaker's room does not count.",
        {"amount_db": 10, "threshold_db": -40, "down_ms": 60, "hold_ms": 400, "back_ms": 1200, "floor_db": -50,
         "rms_pct": 60, "key": {"low_cut_hz": 150}},
    ),
    StartingPoint(
        "ducker", "piano", "Pad, ducked by the kick",
        "Down with each hit, slowly back until the next; type a note length into Back.",
        {"amount_db": 8, "threshold_db": -30, "down_ms": 5, "hold_ms": 30, "back_ms": 300, "floor_db": -45},
    ),
    StartingPoint(
        "limiter", "whole mix", "Whole mix, safe to hand over",
        "Leaves 1 dB to full scale with true peaks held, so that no converter clips.",
        {"ceiling_db": -1, "lookahead_ms": 4, "release_ms": 100, "auto_release": True},
    ),
    StartingPoint(
        "limiter", "drum bus", "Drum bus, catch the peaks",
        "Short and quick: only the tips of the hits are taken.",
        {"ceiling_db": -3, "lookahead_ms": 1.5, "release_ms": 40},
    ),
    StartingPoint(
        "curve", "voice", "Voice, loud held, quiet up", "Whispers come up, shouts come down, breath stays.",
        {"points": [[-70, -70], [-50, -42], [-22, -20], [0, -10]], "knee_db": 8, "attack_ms": 8, "release_ms": 160,
         "rms_pct": 60},
    ),
    StartingPoint(
        "curve", "drum bus", "Drum bus, closed below", "The bed under the hits sinks, the hits are held together.",
        {"points": [[-60, -90], [-42, -48], [-24, -24], [-8, -12], [0, -8]], "knee_db": 4, "attack_ms": 2,
         "release_ms": 90, "slope_below": 2, "oversampling": "auto"},
    ),
    StartingPoint(
        "curve", "room", "Room microphone, the quiet up", "What follows the hits comes up; the hits do not.",
        {"points": [[-70, -70], [-50, -38], [-20, -18], [0, -12]], "join": "smooth", "attack_ms": 1, "release_ms": 140,
         "oversampling": "auto"},
    ),
    StartingPoint(
        "curve", "bass", "Bass, bent softly", "No times: the curve lies on the waveform itself, oversampled.",
        {"points": [[-60, -60], [-20, -20], [-10, -12], [0, -7]], "join": "smooth", "attack_ms": 0, "release_ms": 0,
         "oversampling": "auto"},
    ),
)  # fmt: skip
