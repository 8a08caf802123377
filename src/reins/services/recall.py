"""The recall sheet of a session: as Markdown for a file, as a page to be printed."""

from collections.abc import Callable
from pathlib import Path

from reins.core.recall import LEAST_SCALE_DB, Did, sheet
from reins.core.trials.doings import doings
from reins.errors import SettingsError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.outputs import check_outputs
from reins.services.sessionfiles import described, opened
from reins.services.writing import write_whole

Progress = Callable[[int, int], None]
PLACE = "picture-of-what-it-did-"
HEIGHT = 48
HELD, LET, INK = "#A5382A", "#2C7A58", "#6B665A"


def recall_file(path: Path, output: Path, progress: Progress) -> None:
    """Write the sheet of a session file; InputError for one that cannot be read, nothing half-written."""
    if not output.parent.is_dir():
        raise SettingsError(f"{output}: the folder {output.parent} does not exist; make it first.")
    check_outputs([output], described(path)[1])
    with opened(path, output.parent) as (document, takes):
        text = sheet(document, doings(document, takes, progress))
    write_whole(output, text)


def recall_page(house: House, session_id: str) -> tuple[str, str]:
    """(name, HTML) of a session's sheet."""
    from markdown_it import MarkdownIt

    document = document_of(house, session_id)
    drawn: list[str] = []

    def picture(did: Did) -> str:
        drawn.append(_drawn(did))
        return f"{PLACE}{len(drawn) - 1}."

    text = sheet(document, doings(document, house.takes(document)), picture)
    html: str = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    for place, svg in enumerate(drawn):
        html = html.replace(f"<p>{PLACE}{place}.</p>", svg)
    return document.name, html


def _drawn(did: Did) -> str:
    """A processor's gain along the session: held hangs, let stands."""
    scale = max(LEAST_SCALE_DB, *(-low for low in did.low_db), *did.high_db)
    wide, tall = 600.0 / len(did.low_db), HEIGHT / 2.0
    bars = [
        f'<rect x="{k * wide:.1f}" y="{top:.1f}" width="{wide:.2f}" height="{long:.1f}" fill="{colour}"/>'
        for colour, row, sign in ((HELD, did.low_db, -1.0), (LET, did.high_db, 1.0))
        for k, gain in enumerate(row)
        if (long := sign * gain / scale * tall) > 0.05
        for top in (tall if sign < 0.0 else tall - long,)
    ]
    line = f'<path d="M0 {tall}H600" stroke="{INK}" stroke-width="0.75"/>'
    said = f"{scale:.0f} dB above and below the line"
    head = f'<svg class="did-picture" viewBox="0 0 600 {HEIGHT}" role="img" aria-label="Its gain along the session">'
    return f'{head}{"".join(bars)}{line}</svg><p class="did-scale">{said}</p>'
