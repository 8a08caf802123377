"""Short, seeded forms of what `make soak` does for twenty minutes."""

import random
import shutil

import pytest

from reins.core.processors import PROCESSORS
from tests.attacks import attack_file, attack_outputs, attack_processor, kill_and_look, work_once
from tests.browser.driving import Server, wait_until


@pytest.mark.parametrize("kind", PROCESSORS)
def test_random_settings_on_nasty_sound_are_finite_and_the_same_however_cut(kind):
    for number in range(12):
        attack_processor(kind, number)


def test_files_with_bytes_turned_are_read_or_refused_with_a_sentence(tmp_path):
    results = [attack_file(tmp_path, number) for number in range(60)]
    assert {"read", "refused"} == set(results)


def test_commands_leave_what_they_read_as_it_is_whatever_their_outputs_are_called(tmp_path):
    results = [attack_outputs(tmp_path, number) for number in range(25)]
    assert {"refused", "written"} == set(results)


def test_a_killed_server_has_what_it_confirmed_and_the_same_work_costs_no_more_the_tenth_time(demo_data, tmp_path):
    shutil.copytree(demo_data, tmp_path / "data")
    server = Server(tmp_path / "data")
    try:
        assert kill_and_look(server, random.Random(1)) > 0
        # Kernels are still being loaded while the first work is done, for long on a busy machine.
        wait_until(lambda: abs(work_once(server).memory_mib - work_once(server).memory_mib) <= 1)
        rows = [work_once(server) for _ in range(6)]
    finally:
        server.kill()
    known = rows[0]
    assert rows[-1].files <= known.files + 4 and rows[-1].threads <= known.threads + 8
    assert rows[-1].memory_mib <= known.memory_mib + 20
