"""A monkey at the window: nothing ends it, and what holds its thread is named. The aim is a quarter second."""

from __future__ import annotations

import os

import pytest

from zesty_trace.desktop.window.shell import MainWindow

from ..speed import slowness
from .monkey import Monkey

REACHED_S = 2.0  # of the aim of 0.25 s: docs/performance.md says what is above that
ACTIONS = int(os.environ.get("ZT_MONKEY_ACTIONS", "250"))


@pytest.mark.campaign
@pytest.mark.parametrize("which", ["window", "routed_window"])
def test_a_monkey_finds_no_long_block(which: str, request: pytest.FixtureRequest, settle) -> None:
    window: MainWindow = request.getfixturevalue(which)
    seed = int(os.environ.get("ZT_MONKEY_SEED", "11"))  # another one by hand; the same in every run of the suite
    print(f"seed {seed}")
    monkey = Monkey(window, seed)
    monkey.play(ACTIONS)
    for took, what in monkey.slow[:30]:
        print(f"{took:.2f} s  {what}")
    bound = REACHED_S * slowness()
    assert [f"{took:.2f} s {what}" for took, what in monkey.slow if took > bound] == [], f"seed {seed}"
