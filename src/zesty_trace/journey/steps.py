"""What Order keeps in tables beside the design, as it was before a step: so that the step can be undone."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from zesty_trace.errors import InputError
from zesty_trace.files import changing, exists_inside, names_inside, read_inside, remove_inside, write_inside
from zesty_trace.journey.buying import LOSSES_FILE, ORDERS, STOCK
from zesty_trace.journey.hours import HOURS, PACE
from zesty_trace.journey.ordering import ORDERED

TABLES = (STOCK, LOSSES_FILE, HOURS, PACE, ORDERED)
Tables = Mapping[str, bytes]


def tables_of(project: Path) -> dict[str, bytes]:
    """Return the tables of a project: drawers, orders, losses, hours. InputError for one that cannot be read."""
    names = [n for n in TABLES if exists_inside(project, n)]
    names += [f"{ORDERS}/{n}" for n in names_inside(project, ORDERS, ".csv")]
    return {name: read_inside(project, name, "table") for name in names}


def put_back(project: Path, before: Tables, after: Tables) -> list[str]:
    """Put back what a step changed; return the names of the tables.

    InputError if one of them was changed since, and then none is put back; StoreError.
    """
    with changing(project):
        return _put_back(project, before, after)


def _put_back(project: Path, before: Tables, after: Tables) -> list[str]:
    changed = sorted(n for n in {*before, *after} if before.get(n) != after.get(n))
    now = tables_of(project)
    for name in changed:
        if now.get(name) != after.get(name):
            raise InputError(f"{name} was changed since", name, "Change it by hand: the step is not undone")
    for name in changed:
        if name in before:
            write_inside(project, name, before[name])
        else:
            remove_inside(project, name)
    return changed
