"""Starting points of what works by frequency, and of colour and place, from common practice."""

from reins.core.starting_point import StartingPoint

BY_FREQUENCY = (
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
                    "attack_ms": 5, "release_ms": 90, "weight_db_oct": 3},
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
        {"amount_db": -10, "from_hz": 1000, "to_hz": 5000, "attack_ms": 25, "release_ms": 180},
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
)  # fmt: skip
