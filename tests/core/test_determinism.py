"""The same board comes out in another process, whatever order its sets have there."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

SCRIPT = """
import hashlib
from tests.corpus import cases
from zesty_trace.core.board.placing.arrange import arrange_parts
from zesty_trace.core.board.router import route
from zesty_trace.core.design.model import to_json
for proto in list(cases.prototypes())[2:3]:
    wired = cases.faultless(proto)
    placed = arrange_parts(wired, moves_a_part=300)
    for design in (placed, route(wired.with_design(placed)).design):
        text = to_json(design)
        print(hashlib.sha256(text if isinstance(text, bytes) else text.encode()).hexdigest())
"""


@pytest.mark.campaign
def test_placing_and_routing_do_not_depend_on_the_order_of_sets() -> None:
    root = Path(__file__).parents[2]
    found = []
    for seed in ("1", "2"):
        env = os.environ | {"PYTHONHASHSEED": seed, "PYTHONPATH": str(root)}
        done = subprocess.run([sys.executable, "-c", SCRIPT], env=env, capture_output=True, text=True, check=True)
        found.append(done.stdout.split())
    assert len(found[0]) == 2
    assert found[0] == found[1]
