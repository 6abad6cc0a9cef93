"""A demo project with its image, and records of a batch of twelve."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from datetime import date
from pathlib import Path

import pytest

from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.journey.demos import create_demo
from zesty_trace.journey.flashing import flash_job
from zesty_trace.store.project import read_project
from zesty_trace.store.records import Records


@pytest.fixture
def project(tmp_path: Path) -> Path:
    path = tmp_path / "p"
    create_demo(path, date(2026, 11, 26))
    return path


@pytest.fixture
def job(project: Path):
    return flash_job(Wired(read_project(project).design, shipped()), project)


@pytest.fixture
def records(project: Path) -> Iterator[Records]:
    with closing(Records(project)) as made:
        made.add_boards("A", "Full", range(1, 13))
        yield made
