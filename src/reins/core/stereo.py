"""Two mono takes that are one stereo sound by their names: Guitar L and Guitar R, room.L and room.R, keys left and
right.
"""

import re
from collections.abc import Mapping

SIDE = re.compile(r"^(?P<name>.+?)[\s._-]*[\s._-](?P<side>l|r|left|right)$", re.IGNORECASE)


def stereo_pairs(names: Mapping[str, str]) -> list[tuple[str, str, str]]:
    """(left, right, name) of what belongs together, by ids with their names; two of one side are left alone."""
    sides: dict[str, dict[str, list[str]]] = {}
    for one, name in names.items():
        if found := SIDE.match(name.strip()):
            both = sides.setdefault(found["name"].strip().lower(), {"l": [], "r": []})
            both[found["side"][0].lower()].append(one)
    pairs = []
    for both in sides.values():
        if len(both["l"]) == len(both["r"]) == 1:
            left, right = both["l"][0], both["r"][0]
            found = SIDE.match(names[left].strip())
            pairs.append((left, right, found["name"].strip() if found else names[left]))
    return pairs
