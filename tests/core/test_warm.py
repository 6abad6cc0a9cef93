"""The board that compiles the router's loops ahead of use is routed whole."""

from __future__ import annotations

import pytest

from zesty_trace.core.board.warm import warm_up


@pytest.mark.campaign
def test_the_warm_up_board_is_routed_whole() -> None:
    assert warm_up() == 0
