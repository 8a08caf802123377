"""The command line. Every command parses, calls one service and prints; bad input is one line and exit code 2."""

import json
import os
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from reins.errors import ReinsError

app = typer.Typer(
    pretty_exceptions_enable=False,
    no_args_is_help=True,
    help="Shape the dynamics of recorded takes.",
)
DATA = typer.Option("--data", help="Folder that keeps sessions and takes.")
PORT = typer.Option("--port", min=1, max=65535, help="Port to listen on.")
DITHER = typer.Option("--dither", metavar="none|tpdf", help="tpdf for 16 bits, unless every sample fits in them.")
JSON = typer.Option("--json", help="Print JSON instead of a table.")


def default_data_dir() -> Path:
    """Where sessions are kept when --data is not given."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "reins"


@contextmanager
def _progress(label: str) -> Iterator:
    """A bar on standard error when that is a terminal; yields what takes (done, total)."""
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), disable=not sys.stderr.isatty(), transient=True) as bar:
        task = bar.add_task(label, total=None)
        yield lambda done, total: bar.update(task, completed=done, total=total)


@app.command()
def process(
    source: Annotated[Path, typer.Argument(metavar="IN")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="OUT", help="The file to write.")],
    chain: Annotated[Path, typer.Option("--chain", metavar="FILE", help="The chain file.")],
    key: Annotated[list[str] | None, typer.Option("--key", metavar="NAME=FILE", help="A key, by name.")] = None,
    trace: Annotated[Path | None, typer.Option("--trace", metavar="FILE.csv", help="Write each gain per ms.")] = None,
    block: Annotated[int, typer.Option("--block", metavar="N", help="Frames at a time.")] = 4096,
    file_format: Annotated[str | None, typer.Option("--format", metavar="wav|flac")] = None,
    bits: Annotated[str, typer.Option("--bits", metavar="16|24|32f")] = "24",
    dither: Annotated[str | None, DITHER] = None,
    tempo: Annotated[float, typer.Option("--tempo", metavar="BPM", help="For reins by the beat.")] = 120.0,
) -> None:
    """Hold a file through a chain; the result is lined up with the source and equally long."""
    from reins.services.processing import parse_key_option, process_file

    keys = dict(parse_key_option(text) for text in key or [])
    with _progress(f"Holding {source.name}") as progress:
        clipped, failed = process_file(
            source, output, chain, keys=keys, trace=trace, block_frames=block, file_format=file_format, bits=bits,
            dither=dither, tempo_bpm=tempo, progress=progress,
        )  # fmt: skip
    _tell_clipped(output, clipped)
    _tell(failed)


@app.command()
def batch(
    files: Annotated[list[Path], typer.Argument(metavar="FILES_OR_FOLDERS...")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="OUT", help="The folder to write into.")],
    chain: Annotated[Path | None, typer.Option("--chain", metavar="FILE", help="One chain file for all.")] = None,
    aim: Annotated[list[str] | None, typer.Option("--aim", metavar="AIM", help="Settings of its own for each.")] = None,
    by: Annotated[list[float] | None, typer.Option("--by", metavar="DB", help="By how much, aim by aim.")] = None,
    key_from: Annotated[
        list[str] | None,
        typer.Option("--key-from", metavar="PATTERN", help="A key for each: [NAME=]PATH with {folder}, {stem}."),
    ] = None,
    file_format: Annotated[str, typer.Option("--format", metavar="wav|flac")] = "wav",
    bits: Annotated[str, typer.Option("--bits", metavar="16|24|32f")] = "24",
    dither: Annotated[str | None, DITHER] = None,
    workers: Annotated[int | None, typer.Option("--workers", metavar="N", help="As many as there are cores.")] = None,
    on: Annotated[str | None, typer.Option("--on", metavar="SCHEDULER", help="A Dask scheduler's workers.")] = None,
    report: Annotated[Path | None, typer.Option("--report", metavar="FILE.csv|.json", help="A row a file.")] = None,
    again: Annotated[bool, typer.Option("--again", help="Do what is there already once more.")] = False,
) -> None:
    """Hold many files by one chain, or each by what an aim finds for it; what is there already is not done again."""
    from reins.services.batch.planning import wishes_of
    from reins.services.batch.running import Asked, Progress, run_batch
    from reins.services.batch.tasks import FAILED, Row, Written

    wishes = wishes_of(aim or [], by or [])
    asked = Asked(
        tuple(files), output, chain, wishes, tuple(key_from or []), Written(file_format, bits, dither), workers, on,
        report, again,
    )  # fmt: skip
    with _line() as line:

        def seen(row: Row, progress: Progress) -> None:
            line(progress.sentence())
            if row.problem:
                print(row.problem if row.done == FAILED else f"{row.file}: {row.problem}", file=sys.stderr)
            if row.clipped_frames:
                _tell_clipped(Path(row.output), row.clipped_frames)

        rows = run_batch(asked, seen)
    done = [f"{count} {what}" for what, count in Counter(row.done for row in rows).items()]
    print(f"{len(rows)} file{'' if len(rows) == 1 else 's'}: {', '.join(done)}.")
    if any(row.done == FAILED for row in rows):
        raise typer.Exit(1)


@contextmanager
def _line() -> Iterator[Callable[[str], None]]:
    """A line on standard error that changes, when that is a terminal."""
    from rich.console import Console

    console = Console(stderr=True)
    if not console.is_terminal:
        yield lambda text: None
        return
    with console.status("…") as status:
        yield status.update


@app.command()
def recall(
    session: Annotated[Path, typer.Argument(metavar="SESSION.json", help="A session file: its JSON, or the zip.")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE.md", help="The file to write.")],
) -> None:
    """Write a session's recall sheet: every chain, what is not at its default, and what each processor did."""
    from reins.services.recall import recall_file

    with _progress(f"Recalling {session.name}") as progress:
        recall_file(session, output, progress)


@app.command()
def aim(
    name: Annotated[
        str, typer.Argument(metavar="AIM", help="hits, within, ride, open, silence, esses, bands, duck or back.")
    ],
    source: Annotated[Path, typer.Argument(metavar="IN")],
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="CHAIN.json", help="The chain file.")] = None,
    by: Annotated[float | None, typer.Option("--by", metavar="DB", help="By how much.")] = None,
    within: Annotated[float | None, typer.Option("--within", metavar="DB", help="The spread that may remain.")] = None,
    beats: Annotated[float | None, typer.Option("--beats", metavar="N", help="Back within; 0: before a hit.")] = None,
    key: Annotated[Path | None, typer.Option("--key", metavar="FILE", help="What it steps back for.")] = None,
    tempo: Annotated[float | None, typer.Option("--tempo", metavar="BPM", help="Found where it is not given.")] = None,
    kind: Annotated[str | None, typer.Option("--type", metavar="PROCESSOR", help="One that serves the aim.")] = None,
    as_json: Annotated[bool, JSON] = False,
) -> None:
    """Find settings that do what is wanted of a take, by trying the processor on all of it; prints why."""
    from reins.services.aiming import aim_file

    with _progress(f"Aiming at {source.name}") as progress:
        found = aim_file(
            name, source, asked={"by_db": by, "within_db": within, "beats": beats}, key=key, tempo_bpm=tempo,
            kind=kind, output=output,
            progress=lambda what, done, total: progress(done, total),
        )  # fmt: skip
    print(json.dumps(found, indent=2, ensure_ascii=False) if as_json else found["reason"])


@app.command()
def fight(
    one: Annotated[Path, typer.Argument(metavar="A")],
    other: Annotated[Path, typer.Argument(metavar="B")],
    as_json: Annotated[bool, JSON] = False,
) -> None:
    """Where two files are strong at the same time, by frequency: the worst regions, in words."""
    from reins.services.fighting import fight_files

    with _progress(f"Comparing {one.name} and {other.name}") as progress:
        found = fight_files(one, other, lambda what, done, total: progress(done, total))
    words = "\n".join(found["words"]) or "They leave each other alone."
    print(json.dumps(found, indent=2, ensure_ascii=False) if as_json else words)


@app.command()
def render(
    session: Annotated[Path, typer.Argument(metavar="SESSION.json", help="A session file: its JSON, or the zip.")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="DIR", help="The folder to write into.")],
    stems: Annotated[bool, typer.Option("--stems", help="Write what goes to the master, one file each.")] = False,
    mix: Annotated[bool, typer.Option("--mix", help="Write the mix; also when neither is asked for.")] = False,
    file_format: Annotated[str, typer.Option("--format", metavar="wav|flac")] = "wav",
    bits: Annotated[str | None, typer.Option("--bits", metavar="16|24|32f", help="32f for WAV, 24 for FLAC.")] = None,
    rate: Annotated[int | None, typer.Option("--rate", metavar="HZ", help="Another rate than the session's.")] = None,
    dither: Annotated[str | None, DITHER] = None,
) -> None:
    """Render the mix and the stems of a session file."""
    from reins.services.exporting import Output
    from reins.services.sessionfiles import render_session

    wanted = Output(file_format, bits or ("24" if file_format == "flac" else "32f"), rate, dither)
    with _progress(f"Rendering {session.name}") as progress:
        clipped, failed = render_session(session, output, wanted, progress, mix=mix or not stems, stems=stems)
    for name, frames in clipped.items():
        _tell_clipped(output / name, frames)
    _tell(failed)


def _tell_clipped(path: Path, frames: int) -> None:
    if frames:
        print(
            f"{path}: {frames} frames were louder than full scale and clipped; --bits 32f keeps them.", file=sys.stderr
        )


@app.command()
def measure(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...")], as_json: Annotated[bool, JSON] = False
) -> None:
    """Print loudness, range, true peak, sample peak, RMS and crest factor."""
    from reins.services.processing import measure_file

    rows = []
    for path in files:
        with _progress(f"Measuring {path.name}") as progress:
            rows.append(measure_file(path, progress))
    if as_json:
        print(json.dumps({"files": rows}, indent=2))
        return
    columns = {
        "integrated_lufs": "LUFS", "range_lu": "range LU", "true_peak_dbtp": "dBTP", "sample_peak_dbfs": "peak dBFS",
        "rms_db": "RMS dB", "crest_db": "crest dB",
    }  # fmt: skip
    names = _apart([Path(row["file"]) for row in rows])
    _print_table(
        ["file", *columns.values()],
        [[name, *(row[k] for k in columns)] for name, row in zip(names, rows, strict=True)],
    )


def _apart(paths: list[Path]) -> list[str]:
    """Names for files that tell them apart: without the folders that all of them share."""
    shared = Path(os.path.commonpath([path.absolute().parent for path in paths]))
    return [str(path.absolute().relative_to(shared)) for path in paths]


@app.command()
def bench(
    as_json: Annotated[bool, JSON] = False,
    seconds: Annotated[float, typer.Option(min=0.1, max=600.0, help="How much sound each is given.")] = 10.0,
) -> None:
    """Time each processor: nanoseconds per stereo frame, and times faster than real time, on one core."""
    from reins.services.processing import bench_processors

    rows = bench_processors(seconds)
    if as_json:
        print(json.dumps({"processors": rows}, indent=2))
    else:
        _print_table(["processor", "ns per stereo frame", "times real time"], [list(row.values()) for row in rows])


def _print_table(head: list[str], rows: list[list[str | float | None]]) -> None:
    from rich.console import Console
    from rich.table import Column, Table

    first, *others = head
    table = Table(Column(first, overflow="fold"), *(Column(name, justify="right", no_wrap=True) for name in others))
    for row in rows:
        table.add_row(*("–" if v is None else v if isinstance(v, str) else f"{v:.1f}" for v in row))
    Console().print(table)


@app.command()
def serve(
    data: Annotated[Path | None, DATA] = None,
    host: Annotated[str, typer.Option("--host", help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, PORT] = 8416,
    name: Annotated[
        list[str] | None, typer.Option("--name", metavar="HOST", help="A name the desk answers under, besides --host.")
    ] = None,
) -> None:
    """Serve the desk in the browser. Beyond this machine it opens only with the link that is printed."""
    _serve(data, host, port, demo=False, names=tuple(name or ()))


@app.command()
def demo(data: Annotated[Path | None, DATA] = None, port: Annotated[int, PORT] = 8416) -> None:
    """Serve the desk with the demo session “Last Boat Home”, made on the first start."""
    _serve(data, "127.0.0.1", port, demo=True)


def _serve(data: Path | None, host: str, port: int, *, demo: bool, names: tuple[str, ...] = ()) -> None:
    from reins.web.server import run_server

    run_server(data or default_data_dir(), host=host, port=port, demo=demo, names=names)


@app.command()
def backup(
    data: Annotated[Path, typer.Argument(metavar="DATA", help="The data folder; it may be in use.")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE.zip", help="The file to write.")],
) -> None:
    """Write all sessions and recordings into one file. Unpacked, it is a data folder."""
    from reins.services import keeping

    with _progress(f"Packing {data.name}") as progress:
        problems = keeping.backup(data, output, progress)
    _tell(problems)


@app.command()
def check(
    data: Annotated[Path, typer.Argument(metavar="DATA", help="The data folder.")],
    repair: Annotated[
        bool, typer.Option("--repair", help="Mend what can be mended; the folder must not be in use.")
    ] = False,
) -> None:
    """Check sessions and recordings: the database, checksums, and what no session names."""
    from reins.services import keeping

    with _progress(f"Checking {data.name}") as progress:
        found = keeping.check(data, progress, repair=repair)
    for sentence in found.mended:
        print(sentence)
    if found.without_checksum:
        print(f"{found.without_checksum} recordings have no checksum yet; --repair fills them in.")
    if not found.problems:
        print(f"All is well: the database is whole, and so are its {found.takes} recordings.")
    _tell(found.problems)


def _tell(problems: list[str]) -> None:
    """Problems on standard error, and exit code 1 where there are any."""
    for sentence in problems:
        print(sentence, file=sys.stderr)
    if problems:
        raise typer.Exit(1)


def _version(wanted: bool) -> None:
    if wanted:
        from importlib.metadata import version

        print(f"reins {version('reins')}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    pass


def main() -> None:
    """Entry point: maps every error to one line on standard error and exit code 2."""
    try:
        code = app(standalone_mode=False)
    except ReinsError as error:
        code = _refuse(str(error))
    except KeyboardInterrupt:
        code = 130
    except Exception as error:
        if not hasattr(error, "format_message"):
            raise
        code = _refuse(error.format_message())
    sys.exit(code if isinstance(code, int) else 0)


def _refuse(message: str) -> int:
    print(" ".join(message.split()), file=sys.stderr)
    return 2


if __name__ == "__main__":
    main()
