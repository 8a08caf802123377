"""Starting points by source: settings from common practice, each with one sentence on what it does and why."""

from dataclasses import dataclass, field
from typing import Any

from reins.errors import NotFoundError


@dataclass(frozen=True)
class StartingPoint:
    """Named settings of a processor type; what is not named takes its default."""

    type: str
    source: str
    name: str
    sentence: str
    settings: dict[str, Any] = field(default_factory=dict)


def _compressor(source: str, name: str, sentence: str, **settings: Any) -> StartingPoint:
    return StartingPoint("compressor", source, name, sentence, settings)


STARTING_POINTS = (
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
        "deesser", "voice", "Voice, loud esses",
        "Measures the band against the voice itself, so that quiet and loud lines lose the same of their esses.",
        {"low_hz": 5500, "high_hz": 9500, "relative": True, "threshold_db": -10, "ratio": 5, "range_db": 6,
         "attack_ms": 1, "release_ms": 50, "lookahead_ms": 2, "oversampling": "auto"},
    ),
    StartingPoint(
        "deesser", "speech", "Speech, close microphone",
        "Lower in frequency and less deep than for singing.",
        {"low_hz": 4500, "high_hz": 9000, "relative": True, "threshold_db": -12, "ratio": 3, "range_db": 7,
         "attack_ms": 1, "release_ms": 60, "lookahead_ms": 2, "oversampling": "auto"},
    ),
    StartingPoint(
        "deesser", "electric guitar", "Electric guitar, harshness at 3 to 6 kHz",
        "Takes from 3 to 6 kHz only while that is loud.",
        {"low_hz": 3000, "high_hz": 6000, "threshold_db": -32, "ratio": 3, "range_db": 6, "attack_ms": 3,
         "release_ms": 90},
    ),
    StartingPoint(
        "deesser", "drum bus", "Cymbals, less harsh",
        "Takes from the highs while cymbals sound long; short hats pass.",
        {"low_hz": 8000, "high_hz": 16000, "threshold_db": -34, "ratio": 3, "range_db": 6, "attack_ms": 8,
         "release_ms": 120},
    ),
    StartingPoint(
        "deesser", "whole mix", "Whole mix, esses in the middle",
        "Works on the middle alone, where the voice is, and leaves cymbals and guitars at the sides as they are.",
        {"low_hz": 5500, "high_hz": 9500, "threshold_db": -34, "ratio": 4, "range_db": 5, "attack_ms": 1,
         "release_ms": 50, "channels": "mid_side", "apply_to": "first", "link_pct": 0, "lookahead_ms": 2,
         "oversampling": "auto"},
    ),
    StartingPoint(
        "dynamic_eq", "bass", "Bass, one loud note",
        "Turns one low note down only while it is loud; put the band on the note that is.",
        {"bands": [{"freq_hz": 43.65, "q": 4, "motion": "compress", "threshold_db": -17, "ratio": 12, "knee_db": 3,
                    "range_db": 10, "attack_ms": 4, "release_ms": 140}]},
    ),
    StartingPoint(
        "dynamic_eq", "kick", "Kick, lows up, 320 Hz down",
        "A still cut at 320 Hz; the lows rise with each hit.",
        {"bands": [{"freq_hz": 62, "q": 1.2, "motion": "expand", "threshold_db": -22, "ratio": 1.6, "knee_db": 6,
                    "range_db": 5, "attack_ms": 2, "release_ms": 110},
                   {"freq_hz": 320, "q": 1.1, "gain_db": -5}], "low_cut_hz": 28, "oversampling": "auto"},
    ),
    StartingPoint(
        "dynamic_eq", "voice", "Voice, lows and presence",
        "Turns 200 Hz down when the singer comes close and 3 kHz when lines are shouted; highs stand 2 dB up.",
        {"bands": [{"freq_hz": 230, "q": 0.9, "motion": "compress", "threshold_db": -26, "ratio": 2.5, "range_db": 6,
                    "attack_ms": 20, "release_ms": 160},
                   {"freq_hz": 3000, "q": 1.2, "motion": "compress", "threshold_db": -30, "ratio": 2, "range_db": 5,
                    "attack_ms": 5, "release_ms": 90, "watch": "band_weighted"},
                   {"shape": "high_shelf", "freq_hz": 11000, "q": 0.7, "gain_db": 2}], "low_cut_hz": 80},
    ),
    StartingPoint(
        "dynamic_eq", "whole mix", "Whole mix, spare the voice",
        "Compresses all but the range of the voice, so that words stay in front when all gets loud.",
        {"bands": [{"freq_hz": 1400, "q": 0.5, "motion": "spare"}],
         "rest": {"on": True, "threshold_db": -22, "ratio": 2.5, "range_db": 6, "attack_ms": 15, "release_ms": 180,
                  "auto_release": True}},
    ),
    StartingPoint(
        "multiband", "drum bus", "Drum bus, three bands",
        "Lows even, attacks of the middle left in, cymbals a little down; Amount scales all of it.",
        {"crossovers_hz": [130, 3500],
         "bands": [{"threshold_db": -20, "ratio": 3, "knee_db": 6, "attack_ms": 8, "release_ms": 120},
                   {"threshold_db": -22, "ratio": 2.5, "knee_db": 6, "attack_ms": 20, "release_ms": 100},
                   {"threshold_db": -30, "ratio": 2, "knee_db": 8, "attack_ms": 4, "release_ms": 80}]},
    ),
    StartingPoint(
        "multiband", "bass", "Bass, lows even, highs free",
        "Below 160 Hz a firm ratio on the average; above it little is taken.",
        {"crossovers_hz": [160],
         "bands": [{"threshold_db": -24, "ratio": 5, "knee_db": 6, "attack_ms": 15, "release_ms": 200, "rms_pct": 80},
                   {"threshold_db": -20, "ratio": 1.8, "knee_db": 8, "attack_ms": 20, "release_ms": 120}]},
    ),
    StartingPoint(
        "multiband", "whole mix", "Whole mix, gentle balance",
        "Four bands at low ratios keep the balance when the band gets loud; watch what each gives away.",
        {"crossovers_hz": [120, 900, 6000],
         "bands": [{"threshold_db": -24, "ratio": 1.6, "knee_db": 10, "attack_ms": 30, "release_ms": 250},
                   {"threshold_db": -24, "ratio": 1.5, "knee_db": 10, "attack_ms": 25, "release_ms": 180},
                   {"threshold_db": -28, "ratio": 1.5, "knee_db": 10, "attack_ms": 15, "release_ms": 140},
                   {"threshold_db": -34, "ratio": 1.6, "knee_db": 10, "attack_ms": 8, "release_ms": 100}]},
    ),
    StartingPoint(
        "level", "harmonium", "Harmonium, narrow and low", "Half as wide, mono below 150 Hz, 3 dB down.",
        {"gain_db": -3, "sides_pct": 50, "sides_from_hz": 150},
    ),
    StartingPoint(
        "level", "room", "Room, twice as wide", "The sides count double; below 120 Hz it stays mono.",
        {"sides_pct": 200, "sides_from_hz": 120},
    ),
    StartingPoint(
        "filter", "voice", "Voice, off the boards", "A low cut under the voice and a little brighter about 1.5 kHz.",
        {"low_cut_hz": 90, "low_cut_slope": 24, "tilt_db": 1.5, "tilt_hz": 1500},
    ),
    StartingPoint(
        "filter", "harmonium", "Harmonium, behind a door",
        "Dark from 900 Hz with a raised corner; to be opened by a rein on the high cut.",
        {"high_cut_hz": 900, "high_cut_slope": 24, "resonance_db": 4},
    ),
    StartingPoint(
        "room", "snare", "Snare, a short bright room", "Half a second, small: the hit gets a place and stays in front.",
        {"decay_s": 0.5, "highs_pct": 70, "size_pct": 25, "predelay_ms": 8, "low_cut_hz": 150, "mix_pct": 25},
    ),
    StartingPoint(
        "room", "drum bus", "Drums, large, to be gated", "All room: put it on a bus of its own, and a gate behind it.",
        {"decay_s": 2, "highs_pct": 60, "size_pct": 70, "predelay_ms": 0, "low_cut_hz": 80, "mix_pct": 100},
    ),
    StartingPoint(
        "room", "voice", "Voice, behind the words", "Comes 60 ms late, so that words stay near; no lows.",
        {"decay_s": 1.8, "highs_pct": 40, "size_pct": 60, "predelay_ms": 60, "low_cut_hz": 250, "mix_pct": 18},
    ),
    StartingPoint(
        "room", "acoustic guitar", "Guitar, a small wooden room", "Short and soft; it only takes the dryness away.",
        {"decay_s": 0.7, "highs_pct": 35, "size_pct": 30, "predelay_ms": 5, "low_cut_hz": 120, "mix_pct": 20},
    ),
    StartingPoint(
        "room", "harmonium", "Harmonium, a hall behind it", "Four seconds, dark, wide; a rein can push it back.",
        {"decay_s": 4, "highs_pct": 25, "size_pct": 90, "predelay_ms": 25, "low_cut_hz": 150, "mix_pct": 30},
    ),
    StartingPoint(
        "colour", "voice", "Voice, grit below 5 kHz", "Thirds and fifths on the body of the voice; esses stay clean.",
        {"drive_db": 15, "kind": "soft", "to_hz": 5000, "mix_pct": 60},
    ),
    StartingPoint(
        "colour", "bass", "Bass, heard on small speakers",
        "Even harmonics above 80 Hz give a low note an octave that small speakers can play.",
        {"drive_db": 18, "kind": "even", "from_hz": 80, "to_hz": 1500, "mix_pct": 70},
    ),
    StartingPoint(
        "colour", "snare", "Snare, hard corners", "Cuts the tips of the hits and makes them denser, equally loud.",
        {"drive_db": 14, "kind": "hard", "from_hz": 150},
    ),
    StartingPoint(
        "colour", "whole mix", "Whole mix, a little denser", "Odd harmonics of the loudest parts alone, at low drive.",
        {"drive_db": 5, "kind": "odd", "mix_pct": 80},
    ),
    StartingPoint(
        "colour", "harmonium", "Harmonium, brighter reeds",
        "The highs are bent more than the lows, because the tilt before it is undone after it.",
        {"drive_db": 16, "kind": "soft", "bias_pct": 30, "tilt_db": 8, "mix_pct": 50},
    ),
    StartingPoint(
        "fine_bands", "drum bus", "Cymbals, ringing down", "What rings on sticks out and is held; hits pass.",
        {"reference": "own_mean", "threshold_db": 10, "hold_ratio": 4, "attack_ms": 40, "release_ms": 200,
         "from_hz": 2000, "window": 4096, "hold_range_db": 12},
    ),
    StartingPoint(
        "fine_bands", "room", "A whistle of the room", "Narrow tones that stay, whatever else plays.",
        {"reference": "own_mean", "threshold_db": 8, "hold_ratio": 10, "attack_ms": 150, "release_ms": 400,
         "window": 8192, "smoothing_oct": 0.02},
    ),
    StartingPoint(
        "fine_bands", "voice", "Voice, harsh notes", "Between 2 and 6 kHz whatever sticks out comes back to its mean.",
        {"reference": "own_mean", "threshold_db": 8, "hold_ratio": 3, "attack_ms": 10, "release_ms": 90,
         "from_hz": 2000, "to_hz": 6500, "hold_range_db": 9},
    ),
    StartingPoint(
        "fine_bands", "speech", "Speech, hum and hiss closed", "What lies under the line sinks between words.",
        {"hold_ratio": 1, "close_ratio": 2.5, "close_range_db": 15,
         "threshold_points": [[100, -50], [1000, -62], [9000, -70]], "attack_ms": 20, "release_ms": 60},
    ),
    StartingPoint(
        "make_room", "electric guitar", "Guitars under a voice", "From 1 to 5 kHz they give way while she sings.",
        {"amount_db": -8, "from_hz": 1000, "to_hz": 5000, "attack_ms": 25, "release_ms": 180},
    ),
    StartingPoint(
        "make_room", "bass", "Bass under kick", "Only the lows, only while the kick sounds.",
        {"amount_db": -9, "to_hz": 160, "attack_ms": 5, "release_ms": 90},
    ),
    StartingPoint(
        "make_room", "whole mix", "A band under a speaker", "Words are clear and the music stays as loud beside them.",
        {"amount_db": -6, "from_hz": 300, "to_hz": 6000, "attack_ms": 40, "release_ms": 350, "focus": "middle"},
    ),
    StartingPoint(
        "make_room", "voice", "Voice, forward over guitars", "Turned round: she comes forward where they are.",
        {"amount_db": 3, "from_hz": 1500, "to_hz": 6000, "attack_ms": 20, "release_ms": 150},
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
)  # fmt: skip


def starting_points(kind: str) -> list[StartingPoint]:
    """The starting points of a processor type."""
    return [point for point in STARTING_POINTS if point.type == kind]


def find_starting_point(kind: str, name: str) -> StartingPoint:
    """A starting point by name, or NotFoundError."""
    for point in starting_points(kind):
        if point.name == name:
            return point
    raise NotFoundError("starting point", name)
