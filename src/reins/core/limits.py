"""How much may come in: one place for every limit on files and sessions, each said where it is broken.

docs/formats/limits.md lists them.
"""

import shutil
from pathlib import Path

from reins.errors import StorageError

MIN_RATE, MAX_RATE = 8_000, 384_000  # Hz, of sessions and of whatever is read
MAX_TAKE_S = 2 * 3600
MAX_START_S = 2 * 3600  # how late in the session a take may begin
MAX_SAMPLE = float(1 << 24)  # 144 dB over full scale; more is no recording
MAX_TRACKS = 256
MAX_BUSES = 64
MAX_PROCESSORS = 32  # of one chain
MAX_SENDS = 16  # of one strip
MAX_IMPULSES = 32  # of one session
MAX_IMPULSE_S = 20
MAX_ID = 40  # characters
MAX_UPLOAD_BYTES = 2 << 30
MAX_JSON_BODY_BYTES = 1 << 20
MAX_SESSION_JSON_BYTES = 4 << 20
MAX_DOCUMENT_LETTERS = MAX_SESSION_JSON_BYTES - (256 << 10)  # so that it fits into a session file with its takes' rows
MAX_JSON_NODES = 200_000  # of any JSON that comes in: lists, objects and named values
MAX_SESSION_PROCESSORS = 2_000  # over all chains and drafts of a session
MAX_SESSION_POINTS = 200_000  # of all reins of a session, drafts too
MAX_SESSION_FILES = 1000
MAX_UNPACKED_BYTES = 16 << 30  # of a session file
ROOM_LEFT_BYTES = 256 << 20  # of the disk, after anything is written


def check_room(folder: Path, wanted_bytes: int, what: str) -> None:
    """Raise StorageError unless so much can be written in a folder with ROOM_LEFT_BYTES to spare; `what` begins the
    sentence.
    """
    free = shutil.disk_usage(folder).free
    if wanted_bytes > free - ROOM_LEFT_BYTES:
        raise StorageError(
            f"{what} needs {_mib(wanted_bytes)} on this disk, where {_mib(free)} are free; {_mib(ROOM_LEFT_BYTES)} "
            "must stay free. Nothing was written."
        )


def _mib(size_bytes: int) -> str:
    return f"{-(-size_bytes >> 20)} MiB" if size_bytes < 10 << 30 else f"{-(-size_bytes >> 30)} GiB"
