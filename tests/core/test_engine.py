"""Chains that change while running, the mix, latency, and the two clocks."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.dsp.gains import pan_gains
from reins.core.engine.chain import Chain
from reins.core.engine.gliding import GlidingChain
from reins.core.engine.listening import Listening
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix, run_chain
from reins.core.sessions import Document, Track
from reins.core.time import Stream
from tests.conftest import RATE


def entry(id="c", on=True, **settings):
    return parse_entry({"type": "compressor", "id": id, "on": on, "settings": settings}, "test")


def document(*tracks):
    ids = [f"t{i}" for i in range(len(tracks))]
    return Document(name="x", tracks=dict(zip(ids, tracks, strict=True)), order=ids)


def track(take_id="a", **values):
    return Track(name="x", take_id=take_id, **values)


def render(mixer, start, end, block=1024):
    return np.concatenate(list(render_mix(mixer, start, end, block_frames=block)), axis=1)


@pytest.mark.parametrize("block", [1, 100, 4096])
def test_run_chain_lines_result_and_gain_up_with_the_source(noise, block):
    source = np.zeros((1, 3000))
    source[0, 1000:1500] = 0.5
    entries = [
        entry("a", threshold_db=-60, ratio=1, lookahead_ms=2),
        entry("b", threshold_db=-20, attack_ms=0, lookahead_ms=5),
    ]
    chain = Chain(entries, channels=1, sample_rate=RATE)
    position = 0

    def take(count):
        nonlocal position
        part = np.zeros((1, count))
        piece = source[:, position : position + count]
        part[:, : piece.shape[1]] = piece
        position += count
        return part

    rows = list(run_chain(chain, take, 3000, block_frames=block))

    result = np.concatenate([r for r, _ in rows], axis=1)
    gain = np.concatenate([g[1] for _, g in rows])
    assert result.shape == source.shape
    assert gain.size == 3000
    np.testing.assert_array_equal(np.flatnonzero(result[0])[[0, -1]], [1000, 1499])
    assert np.flatnonzero(gain < -1)[0] == 1000 - 240  # the lookahead lets it take hold 5 ms early


@pytest.mark.parametrize(
    "change",
    [{"threshold_db": -50.0}, {"makeup_db": 24.0}, {"channels": "mid_side", "apply_to": "second"}, {"mix_pct": 0.0}],
)
def test_a_setting_turned_while_sound_runs_does_not_click(change):
    sine = 0.5 * np.sin(2 * np.pi * 100 * np.arange(8192) / RATE)
    signal = np.stack([sine, 0.8 * sine])
    before = entry(threshold_db=-20, attack_ms=0)
    chain = GlidingChain(Chain([before], channels=2, sample_rate=RATE), sample_rate=RATE)
    parts = []

    for index, block in enumerate(np.split(signal, 8, axis=1)):
        if index == 4:
            after = parse_entry({**before.model_dump(), "settings": {**before.settings.model_dump(), **change}}, "x")
            chain.change(chain.chain.evolved([after]))
        parts.append(chain.process(np.ascontiguousarray(block), block))

    out = np.concatenate(parts, axis=1)[0]
    jump = np.abs(np.diff(out, 2))
    assert np.abs(out[5000:]).max() != pytest.approx(np.abs(out[:4000]).max(), rel=0.05)
    # A glide over 480 frames bends the line by at most level/480 at its ends; a click would be a hundred times that.
    assert jump[4080:4110].max() < jump[:4000].max() + np.abs(out).max() / 240


def test_an_unchanged_neighbour_keeps_its_state_when_a_processor_is_added(noise):
    one = [entry("a", threshold_db=-30, release_ms=2000)]
    plain, changed = (GlidingChain(Chain(one, channels=2, sample_rate=RATE), sample_rate=RATE) for _ in range(2))
    plain.process(noise[:, :8000].copy(), noise)
    changed.process(noise[:, :8000].copy(), noise)

    changed.change(changed.chain.evolved([*one, entry("b", ratio=1)]))
    block = np.ascontiguousarray(noise[:, 8000:])

    np.testing.assert_allclose(changed.process(block, block), plain.process(block, block), atol=1e-15)


def test_mono_pan_keeps_the_power_and_stereo_at_rest_is_untouched():
    for pan in np.linspace(-100, 100, 41):
        left, right = pan_gains(pan, 1)
        assert left**2 + right**2 == pytest.approx(1.0)

    assert pan_gains(0, 1)[0] == pytest.approx(10 ** (-3.0103 / 20), rel=1e-5)
    assert pan_gains(0, 2) == pytest.approx((1.0, 1.0), abs=1e-15)


def test_tracks_of_different_latency_leave_lined_up(make_take):
    click = np.zeros((1, 9600))
    click[0, [0, 4000]] = 0.001
    slow = [entry("a", lookahead_ms=20, threshold_db=0), entry("b", lookahead_ms=7.3, threshold_db=0)]
    mixer = Mixer(document(track(chain=slow, pan_pct=-100), track(pan_pct=100)), {"a": make_take(click)})

    out = render(mixer, 0, 9600)

    np.testing.assert_allclose(out[0], out[1], atol=1e-12)
    np.testing.assert_array_equal(np.flatnonzero(out[0] > 1e-6), [0, 4000])


def test_the_mix_is_the_sum_of_its_tracks(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1] * 0.5, "b")}
    tracks = [track("a", chain=[entry(threshold_db=-40)], fader_db=-6), track("b", pan_pct=30)]

    mix = render(Mixer(document(*tracks), takes), 0, 24000)

    alone = [render(Mixer(document(t), takes), 0, 24000) for t in tracks]
    np.testing.assert_allclose(mix, alone[0] + alone[1], atol=1e-12)


@pytest.mark.parametrize("block", [1, 333, 65536])
def test_any_block_size_renders_the_same_bits(make_take, noise, block):
    doc, takes = document(track(chain=[entry(threshold_db=-40, lookahead_ms=5)])), {"a": make_take(noise)}

    out = render(Mixer(doc, takes), 0, 3000, block)

    np.testing.assert_array_equal(out, render(Mixer(doc, takes), 0, 3000))


def test_a_start_made_ready_gives_the_same_bits_and_never_those_of_another_document(make_take, noise):
    takes = {"a": make_take(noise)}
    doc, changed = (document(track(chain=[entry(threshold_db=db, lookahead_ms=3)])) for db in (-30, -50))
    mixer = Mixer(doc, takes)

    assert mixer.make_ready() and not mixer.make_ready()
    made = render(mixer, 4000, 12000)
    mixer.make_ready()
    mixer.change(changed)
    other = render(mixer, 4000, 12000)

    np.testing.assert_array_equal(made, render(Mixer(doc, takes), 4000, 12000))
    np.testing.assert_array_equal(other, render(Mixer(changed, takes), 4000, 12000))


def test_starts_that_follow_each_other_all_begin_with_what_has_never_run(make_take, noise):
    takes = {"a": make_take(noise)}
    doc = document(track(chain=[entry(threshold_db=-30, lookahead_ms=3, attack_ms=200)]), track(trim_db=-3.0))
    mixer = Mixer(doc, takes)

    made = [render(mixer, start, start + 3000) for start in (9000, 200, 9000)]

    np.testing.assert_array_equal(made[0], render(Mixer(doc, takes), 9000, 12000))
    np.testing.assert_array_equal(made[2], made[0])
    np.testing.assert_array_equal(made[1], render(Mixer(doc, takes), 200, 3200))


@pytest.mark.parametrize("moved", [{"start_frame": 3000}, {"trim_db": -6.0}])
def test_a_take_moved_by_the_change_that_brings_another_track_is_heard_where_it_lies(make_take, noise, moved):
    takes = {"a": make_take(noise), "b": make_take(0.0 * noise, "b")}
    wanted = document(track(**moved), track("b"))
    mixer, anew = Mixer(document(track()), takes), Mixer(wanted, takes)
    for one in (mixer, anew):
        one.start(Stream(0))
        one.process(1024)

    mixer.change(wanted)

    for number in range(6):
        heard, as_made = mixer.process(1024), anew.process(1024)
        if number:  # the first fades over
            np.testing.assert_allclose(heard, as_made, atol=1e-12)


def test_muted_is_silent_and_solo_leaves_only_itself(make_take, noise):
    takes = {"a": make_take(noise)}

    muted = render(Mixer(document(track(mute=True)), takes), 0, 2000)
    solo = render(Mixer(document(track(), track(solo=True, fader_db=-6)), takes), 0, 2000)

    np.testing.assert_array_equal(muted, 0.0)
    np.testing.assert_array_equal(solo, render(Mixer(document(track(fader_db=-6)), takes), 0, 2000))


def test_difference_is_source_less_result(make_take, noise):
    takes = {"a": make_take(noise)}
    heard = {}
    for what in ("result", "source", "difference"):
        mixer = Mixer(document(track(chain=[entry(threshold_db=-40, lookahead_ms=4)])), takes)
        mixer.listen(Listening(what))
        heard[what] = render(mixer, 0, 20000)[:, 1024:]  # the first block fades over

    np.testing.assert_allclose(heard["difference"], heard["source"] - heard["result"], atol=1e-15)
    assert np.abs(heard["difference"]).max() > 0.01


def test_a_stream_in_a_loop_jumps_back_from_its_end():
    stream = Stream(900, loop=(500, 1000))

    assert stream.spans(0, 250) == [(900, 100), (500, 150)]
    assert stream.spans(100, 1100) == [(500, 500), (500, 500), (500, 100)]
    assert Stream(1000, loop=(500, 1000)).spans(0, 300) == [(1000, 300)]


def test_a_loop_is_heard_without_a_gap(make_take, noise):
    mixer = Mixer(
        document(track(chain=[entry(threshold_db=0, knee_db=0, lookahead_ms=20)])), {"a": make_take(noise * 0.1)}
    )
    mixer.start(Stream(2000, loop=(1000, 3000)))

    out = np.concatenate([mixer.process(500) for _ in range(8)], axis=1)

    expected = np.concatenate([noise[:, 2000:3000], noise[:, 1000:3000], noise[:, 1000:2000]], axis=1) * 0.1
    np.testing.assert_allclose(out, expected.astype(np.float32), atol=1e-7)


def test_a_changed_lookahead_while_playing_stays_lined_up(make_take):
    ramp = np.linspace(0, 0.5, 24000)[None]
    doc = document(track(chain=[entry(threshold_db=0, knee_db=0)], pan_pct=-100))
    mixer = Mixer(doc, {"a": make_take(ramp)})
    first = mixer.process(4096)

    mixer.change(doc.with_strip("t0", chain=[entry(threshold_db=0, knee_db=0, lookahead_ms=15)]))
    rest = [mixer.process(1024) for _ in range(6)]

    out = np.concatenate([first, *rest], axis=1)[0]
    np.testing.assert_allclose(out, ramp[0, : out.size], atol=1e-7)


def test_what_moves_does_not_depend_on_how_the_stream_is_cut(make_take, noise):
    """A fader, a pan, a trim, a polarity and what is heard change in the middle; any cut gives the same samples."""
    before = document(track(chain=[entry(threshold_db=-30)]), track())
    after = before.with_strip("t0", fader_db=-18.0, pan_pct=60.0).with_strip("t1", trim_db=6.0, inverted=True)
    takes = {"a": make_take(0.2 * noise)}
    made = []
    for cuts in ([64] * 128, [1024] * 8, [2048] * 4, [1000, 1048, *[1, 7, 500, 1540] * 3]):
        mixer = Mixer(before, takes)
        mixer.start(Stream(0))
        parts, at = [], 0
        for frames in cuts:
            if at == 2048:
                mixer.change(after)
            if at == 4096:
                mixer.listen(Listening("difference"))
            parts.append(mixer.process(frames))
            at += frames
        made.append(np.concatenate(parts, axis=1))

    for other in made[1:]:
        np.testing.assert_allclose(other, made[0], atol=1e-12)
    assert np.abs(made[0][:, 3100:3600] - render(Mixer(after, takes), 3100, 3600)).max() < 1e-9
    assert np.abs(np.diff(made[0][:, 4090:4110])).max() < np.abs(np.diff(made[0])).max() + 0.01


@pytest.mark.parametrize("what", ["result", "source", "difference"])
def test_one_processor_of_three_is_heard_by_itself_lined_up_with_the_mix(make_take, noise, what):
    chain = [entry("a", threshold_db=-30, lookahead_ms=2), entry("b", threshold_db=-40, ratio=9, lookahead_ms=5),
             entry("c", makeup_db=12, lookahead_ms=1)]  # fmt: skip
    takes, at = {"a": make_take(0.5 * noise)}, slice(6000, 12000)

    def strip(chain):
        return render(Mixer(document(track(chain=chain, fader_db=-3, pan_pct=25)), takes), 0, 12000)[:, at]

    mixer = Mixer(document(track(chain=chain, fader_db=-3, pan_pct=25)), takes)
    mixer.listen(Listening(what, "t0", "b"))
    heard = render(mixer, 0, 12000)[:, at]

    before, after = strip(chain[:1]), strip(chain[:2])
    expected = {"result": after, "source": before, "difference": before - after}[what]
    np.testing.assert_allclose(heard, expected, atol=1e-9)
    assert np.abs(expected).max() > 0.02


def test_changing_what_is_heard_of_a_processor_and_its_settings_does_not_click_or_lose_its_place(make_take):
    sine = 0.4 * np.sin(2 * np.pi * 200 * np.arange(24000) / RATE)[None]
    doc = document(track(chain=[entry("a", threshold_db=-30, lookahead_ms=4), entry("b", makeup_db=3, lookahead_ms=7)]))
    mixer = Mixer(doc, {"a": make_take(sine)})
    blocks = []
    for number, to in enumerate(["result", "source", "result", "difference", "source", "result"] * 3):
        mixer.listen(Listening(to, "t0", "a"))
        if number == 9:
            mixer.change(
                doc.with_strip("t0", chain=[entry("a", threshold_db=-20, lookahead_ms=4), doc.track("t0").chain[1]])
            )
        blocks.append(mixer.process(1200)[0])

    out = np.concatenate(blocks)
    assert np.abs(np.diff(out, 2)).max() < 3 * 0.4 * (2 * np.pi * 200 / RATE) ** 2 + 0.4 / 480**2 * 40


def test_a_pause_before_the_loop_begins_again_is_silent_and_every_pass_is_alike(make_take, noise):
    loop, pause, seam = (3000, 9000), 2000, 144
    stream = Stream(4000, (loop[0], loop[1] + pause), seam, pause)
    mixer = Mixer(document(track()), {"a": make_take(noise)})
    mixer.start(stream)
    heard = np.concatenate([mixer.process(500) for _ in range(42)], axis=1)

    first = 9000 - 4000
    assert np.all(heard[:, first : first + pause] == 0.0) and np.any(heard[:, first - 300 : first])
    passes = [heard[:, first + pause + k * 8000 :][:, :8000] for k in (0, 1)]
    assert len(passes[1][0]) == 6000
    np.testing.assert_array_equal(passes[0][:, :6000], passes[1])
    assert stream.at(first + 500) == 9500 and stream.heard_at(first + 500) == 8999
    assert np.abs(np.diff(heard[0, first + pause - 5 : first + pause + 5])).max() < 0.05  # it fades in


@pytest.mark.parametrize("processor", [None, "c"])
def test_a_part_of_the_source_is_heard_within_the_result(make_take, noise, processor):
    takes = {"a": make_take(noise)}

    def heard(**how):
        mixer = Mixer(document(track(chain=[entry(threshold_db=-40, lookahead_ms=4)])), takes)
        mixer.listen(Listening(of="t0", processor_id=processor, **how))
        return render(mixer, 0, 12000)[:, 4000:]

    result, source = heard(), heard(what="source")
    np.testing.assert_allclose(heard(source_pct=30), 0.7 * result + 0.3 * source, atol=1e-12)
    np.testing.assert_allclose(heard(source_pct=100), source, atol=1e-12)


def test_middle_and_sides_are_heard_on_both_ears(make_take, noise):
    takes = {"a": make_take(noise)}

    def heard(sides):
        mixer = Mixer(document(track(chain=[entry(threshold_db=-40)])), takes)
        mixer.listen(Listening(sides=sides))
        return render(mixer, 0, 8000)[:, 2000:]

    left, right = heard("both")
    np.testing.assert_allclose(heard("mono"), [0.5 * (left + right)] * 2, atol=1e-12)
    np.testing.assert_allclose(heard("sides"), [0.5 * (left - right)] * 2, atol=1e-12)
