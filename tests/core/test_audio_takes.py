"""Reading, refusing, writing; takes on disk and their pyramid."""

import errno
import os

import numpy as np
import pytest
import scipy.signal
import soundfile

from reins.core.audio import AudioReader, AudioWriter, BlockFeed
from reins.core.takes import BINS, write_take
from reins.errors import AudioError, StorageError
from tests.conftest import RATE, kept


def read_all(reader):
    return np.concatenate(list(reader.blocks()), axis=1)


@pytest.mark.parametrize(
    ("suffix", "subtype", "error"),
    [
        ("wav", "PCM_24", 2e-7),
        ("flac", "PCM_16", 4e-5),
        ("aiff", "FLOAT", 1e-7),
        ("ogg", "VORBIS", 0.03),
        ("mp3", None, 0.03),
    ],
)
def test_every_format_allowed_is_read(tmp_path, suffix, subtype, error):
    path = tmp_path / f"take.{suffix}"
    tone = np.sin(2 * np.pi * np.outer([440, 660], np.arange(24000) / RATE)) * 0.5 * np.hanning(24000)
    soundfile.write(path, tone.T, RATE, subtype=subtype)

    with AudioReader(path) as reader:
        samples = read_all(reader)

    assert reader.channels == 2
    assert samples.shape[1] == reader.frames >= tone.shape[1]
    np.testing.assert_allclose(samples[:, : tone.shape[1]], tone, atol=error)  # the format's own loss


def test_another_rate_is_resampled_like_scipy_does(tmp_path):
    t = np.arange(44100) / 44100
    soundfile.write(tmp_path / "a.wav", np.sin(2 * np.pi * 997 * t) * np.hanning(t.size), 44100, subtype="DOUBLE")

    with AudioReader(tmp_path / "a.wav", sample_rate=RATE) as reader:
        ours = read_all(reader)[0]

    source = np.sin(2 * np.pi * 997 * t) * np.hanning(t.size)
    expected = scipy.signal.resample_poly(source, 160, 147, window=("kaiser", 14.0))
    assert ours.size == 48000
    np.testing.assert_allclose(ours, expected, atol=1e-4)  # two different interpolators


def test_a_feed_gives_any_length_and_silence_after_the_end(tmp_path, noise):
    soundfile.write(tmp_path / "a.wav", noise.T, RATE, subtype="DOUBLE")

    with AudioReader(tmp_path / "a.wav") as reader:
        feed = BlockFeed(reader)
        parts = [feed.take(n) for n in (1, 23000, 5000)]

    joined = np.concatenate(parts, axis=1)
    np.testing.assert_array_equal(joined[:, :24000], noise)
    np.testing.assert_array_equal(joined[:, 24000:], 0.0)


def write_bad(path, what):
    good = path.with_name("good.wav")
    soundfile.write(good, np.ones((1000, 2)) * 0.1, RATE, subtype="PCM_16")
    whole = good.read_bytes()
    nan = np.ones((70000, 1), np.float32)
    nan[66001] = np.nan
    writers = {
        "text": lambda: path.write_text("no sound at all"),
        "empty file": lambda: path.write_bytes(b""),
        "no frames": lambda: soundfile.write(path, np.zeros((0, 1)), RATE),
        "truncated": lambda: path.write_bytes(whole[: len(whole) - 2000]),
        "six channels": lambda: soundfile.write(path, np.zeros((10, 6)), RATE),
        "nan": lambda: soundfile.write(path, nan, RATE, subtype="FLOAT"),
    }
    writers[what]()


@pytest.mark.parametrize(
    ("what", "sentence"),
    [
        ("text", "not audio that can be read; WAV, FLAC"),
        ("empty file", r"empty \(0 bytes\)"),
        ("no frames", "holds 0 frames"),
        ("truncated", r"truncated: its header promises 4000 bytes of sound, 2000 are there \(500 whole frames\)"),
        ("six channels", "6 channels; mono and stereo"),
        ("nan", "frame 66001 is not a number"),
    ],
)
def test_bad_audio_is_refused_with_a_sentence(tmp_path, what, sentence):
    write_bad(tmp_path / "bad.wav", what)

    with pytest.raises(AudioError, match=f"^bad.wav: .*{sentence}"), AudioReader(tmp_path / "bad.wav") as reader:
        read_all(reader)


def test_a_truncated_flac_is_refused(tmp_path, noise):
    soundfile.write(tmp_path / "a.flac", noise.T, RATE)
    whole = (tmp_path / "a.flac").read_bytes()
    (tmp_path / "a.flac").write_bytes(whole[: len(whole) // 2])

    with pytest.raises(AudioError, match="truncated: 24000 frames"), AudioReader(tmp_path / "a.flac") as reader:
        read_all(reader)


def test_a_writer_that_fails_leaves_the_old_file_and_nothing_else(tmp_path, noise):
    path = tmp_path / "out.wav"
    path.write_bytes(b"precious")

    with (
        pytest.raises(RuntimeError, match="stop"),
        AudioWriter(path, channels=2, sample_rate=RATE, file_format="wav", bits="24") as writer,
    ):
        writer.write(noise)
        raise RuntimeError("stop")

    assert path.read_bytes() == b"precious"
    assert list(tmp_path.iterdir()) == [path]


def test_a_take_is_read_back_on_its_grid_with_silence_around_it(make_take, noise):
    take = make_take(noise)

    out = take.read(-10, 24020)

    np.testing.assert_array_equal(out[:, 10:-10], kept(noise))
    np.testing.assert_allclose(out[:, 10:-10], noise, atol=2**-23)
    np.testing.assert_array_equal(out[:, [0, 9, -10, -1]], 0.0)


@pytest.mark.parametrize(
    ("start", "frames", "columns"), [(0, 24000, 37), (100, 900, 300), (5000, 19000, 3), (-500, 1000, 10)]
)
def test_peaks_by_column_are_those_of_the_samples(make_take, noise, start, frames, columns):
    take = make_take(noise)

    peaks = take.peak_columns(start, frames, columns)

    padded = np.abs(np.pad(noise, ((0, 0), (1000, 1000)))).max(axis=0)
    edges = start + 1000 + np.linspace(0, frames, columns + 1)
    slack = max((size for size in BINS if size <= frames / columns), default=1)
    for column, peak in enumerate(peaks):
        low, high = int(edges[column]), int(np.ceil(edges[column + 1]))
        assert peak <= padded[max(low - slack, 0) : high + slack].max() + 1e-6
        assert peak >= padded[min(low + slack, high) : max(high - slack, low)].max(initial=0.0) - 1e-6


def test_every_level_of_the_pyramid_is_what_the_samples_are_however_long_the_take(make_take, tmp_path):
    sound = np.random.default_rng(5).uniform(-1.0, 1.0, (1, BINS[0] * BINS[-1] + 700))  # no piece of a level, but more

    make_take(sound)

    samples = kept(sound)[0]
    for size in BINS:
        starts = np.arange(0, samples.size, size)
        level = np.fromfile(tmp_path / "take" / f"level{size}.f32", np.float32).reshape(-1, 3)
        lengths = np.diff(np.append(starts, samples.size))
        np.testing.assert_array_equal(level[:, 0], np.minimum.reduceat(samples, starts))
        np.testing.assert_array_equal(level[:, 1], np.maximum.reduceat(samples, starts))
        np.testing.assert_allclose(level[:, 2], np.add.reduceat(samples**2, starts) / lengths, rtol=1e-5)


def test_a_full_disk_is_said_in_a_sentence(tmp_path, noise):
    def blocks():
        yield noise
        raise OSError(errno.ENOSPC, "No space left on device")

    with pytest.raises(StorageError, match=r"disk refused .*No space left.*nothing was added"):
        write_take(tmp_path / "t", blocks(), channels=2, sample_rate=RATE)


def test_a_take_that_is_cut_short_or_replaced_while_it_is_open_is_said_and_ends_nothing(make_take, noise, monkeypatch):
    monkeypatch.setattr("reins.core.takes.CHECK_S", 0.0)
    for number, (spoil, said) in enumerate((
        (lambda path: os.truncate(path, 1000), "bytes where"),
        (lambda path: path.write_bytes(path.read_bytes()[::-1]), "removed or replaced"),
        (lambda path: path.unlink(), "removed or replaced"),
    )):  # fmt: skip
        take = make_take(noise, f"take {number}")
        take.read(0, 100)
        spoil(take.folder / "samples.f32")
        with pytest.raises(StorageError, match=said):
            take.read(0, 100)


def test_the_last_frames_of_a_take_cut_short_between_two_looks_are_not_read(make_take, noise):
    take = make_take(noise)
    take.read(0, 100)
    os.truncate(take.folder / "samples.f32", 1000)
    with pytest.raises(StorageError, match="cut short"):
        take.read(noise.shape[1] - 100, 100)
