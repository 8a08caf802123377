"""Makes the ten takes of the demo session and how they stand in the mix at first."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from reins.demo import drums, strings, voices
from reins.demo.score import Array


@dataclass(frozen=True)
class Part:
    """A finished take with its place in the mix."""

    name: str
    samples: Array
    fader_db: float
    pan_pct: float


def make_parts(progress: Callable[[str, int, int], None] = lambda what, done, total: None) -> Iterator[Part]:
    """The parts in the order of the track list; `progress` hears what is being made, and how many of how many."""
    made: dict[str, Array] = {}
    recipe: list[tuple[str, Callable[[], Array], float, float]] = [
        ("Kick", drums.make_kick, 0.0, 0.0),
        ("Snare", lambda: drums.make_snare(made["Kick"], made["Hats"]), 1.0, -8.0),
        ("Hats", drums.make_hats, 0.0, 40.0),
        ("Room", lambda: drums.make_room(made["Kick"], made["Snare"], made["Hats"]), -5.0, 0.0),
        ("Bass", strings.make_bass, -4.0, 0.0),
        ("Guitar L", lambda: strings.make_guitar(0), -1.0, -85.0),
        ("Guitar R", lambda: strings.make_guitar(1), -1.0, 85.0),
        ("Singer", voices.make_singer, -6.0, 0.0),
        ("Announcer", voices.make_announcer, 0.0, 0.0),
        ("Harmonium", strings.make_harmonium, -6.0, 35.0),
    ]
    made["Kick"], made["Hats"] = drums.make_kick(), drums.make_hats()
    for index, (name, make, fader_db, pan_pct) in enumerate(recipe):
        progress(name, index, len(recipe))
        if name not in made:
            made[name] = make()
        yield Part(name, made[name], fader_db, pan_pct)
