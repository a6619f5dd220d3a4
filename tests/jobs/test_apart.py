"""Calls in processes apart: what they do to themselves they do not do to others."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Iterator

import numpy as np
import pytest
from services import wait_for

from keen_horizon.core.errors import MediaError, ProfileError
from keen_horizon.core.lens.exchange.files import read_profile
from keen_horizon.jobs.apart import Apart


@pytest.fixture
def apart() -> Iterator[Apart]:
    made = Apart(members=1, memory=2 << 30, seconds=5)
    yield made
    made.close()


def test_answers_and_errors_come_back(apart: Apart) -> None:
    assert apart.call("x", divmod, 7, 2) == (3, 1)
    with pytest.raises(ProfileError, match=r"a.yml: the file is empty"):
        apart.call("a.yml", read_profile, b" ", "a.yml")
    with pytest.raises(RuntimeError, match="ZeroDivisionError"):
        apart.call("x", divmod, 1, 0)
    with pytest.raises(FileNotFoundError):
        apart.call("x", os.stat, "/nowhere")


def test_a_crash_a_hang_and_hunger_are_told_and_the_next_call_works(apart: Apart) -> None:
    for what, function, argument in (
        ("cannot be read safely", os._exit, 1),
        ("cannot be read safely", signal.raise_signal, signal.SIGSEGV),
        ("took longer than 5 s", time.sleep, 30),
        ("too large for the memory", np.zeros, 1 << 33),
    ):
        with pytest.raises(MediaError, match=what) as told:
            apart.call("quay.mp4", function, argument)
        assert str(told.value).startswith("quay.mp4: ")
        assert apart.call("x", abs, -3) == 3


def test_members_end_with_whoever_started_them(apart: Apart) -> None:
    member = apart.call("x", os.getpid)
    apart.close()
    wait_for(lambda: not os.path.exists(f"/proc/{member}"), 10)
