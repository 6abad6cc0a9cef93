"""Every reader on nearly valid input: own errors only, in time, in memory, and what is accepted reads back."""

from __future__ import annotations

import random
import resource
import time
from contextlib import suppress

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from zesty_trace.errors import ZestyError

from ..speed import slowness
from .mutate import mutated
from .targets import TARGETS

MOST_S, MOST_MB = 2.0, 500


@pytest.mark.parametrize("name", TARGETS)
def test_every_seed_is_accepted_or_refused_in_words(name: str) -> None:
    accepted = 0
    for seed in TARGETS[name].seeds():
        with suppress(ZestyError):
            TARGETS[name].act(seed)
            accepted += 1
    assert accepted


@pytest.mark.parametrize("name", TARGETS)
def test_nearly_valid_input_gives_own_errors_only(name: str) -> None:
    target = TARGETS[name]
    seeds = target.seeds()
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

    @settings(max_examples=target.examples, deadline=None, database=None, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, len(seeds) - 1), st.integers(0, 2**32), st.integers(1, 6))
    def run(index: int, number: int, edits: int) -> None:
        data = mutated(seeds[index], random.Random(number), edits)
        start = time.thread_time()
        with suppress(ZestyError):
            target.act(data)
        took = time.thread_time() - start
        assert took < MOST_S or took < MOST_S * slowness()

    run()
    grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    assert grown < MOST_MB * 1024


@given(st.binary(max_size=300))
@settings(max_examples=60, deadline=None)
def test_any_bytes_give_own_errors_only(data: bytes) -> None:
    for name, target in TARGETS.items():
        if name in ("records", "journal"):
            continue
        with suppress(ZestyError):
            target.act(data)
