"""The palette: text is readable on paper and sheet, in both themes (WCAG 2.1, success criterion 1.4.3)."""

import re

import pytest

from reins.web.guard import STATIC


def themes():
    css = (STATIC / "css" / "tokens.css").read_text()
    day, night = (
        dict(re.findall(r"--([\w-]+): (#\w{6})", block)) for block in re.findall(r":root[^{]*\{([^}]*)\}", css)
    )
    return day, night


def luminance(colour):
    channels = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one, other):
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


def test_the_formula_gives_its_known_ends():
    assert contrast("#000000", "#ffffff") == pytest.approx(21)
    assert contrast("#777777", "#ffffff") == pytest.approx(4.48, abs=0.01)


@pytest.mark.parametrize("theme", [0, 1])
@pytest.mark.parametrize("ground", ["paper", "sheet"])
@pytest.mark.parametrize("role", ["ink", "muted", "held", "key-text"])
def test_text_is_readable(theme, ground, role):
    colours = themes()[theme]

    assert contrast(colours[role], colours[ground]) >= 4.5


def test_the_night_forgets_no_role():
    day, night = themes()

    assert set(night) == {name for name in day if not name.startswith("bulma")}
