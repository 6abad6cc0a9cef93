"""Edits of what is asked of the circuit: operating states, the timeline, and what was measured on the prototype."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from zesty_trace.core.design.model import Design, Measured, Moment, StateSpec
from zesty_trace.errors import EditError


def keep_states(design: Design, states: Iterable[StateSpec]) -> Design:
    """Replace the operating states; none means that they are proposed from the parts. EditError for a name used twice."""
    kept = tuple(states)
    names = [s.name for s in kept]
    for name in names:
        if not name.strip():
            raise EditError("An operating state needs a name", "states", "Type one or more letters")
        if names.count(name) > 1:
            raise EditError(f"Two operating states are called “{name}”", name, "Give one of them another name")
    return replace(design, states=kept)


def put_state(design: Design, state: StateSpec, base: Iterable[StateSpec], old_name: str = "") -> Design:
    """Change or add one operating state among `base`, the states there are now; the timeline follows a new name."""
    old = old_name or state.name
    kept = list(base)
    index = next((k for k, s in enumerate(kept) if s.name == old), len(kept))
    kept[index : index + 1] = [state]
    moved = tuple(replace(m, state=state.name) if m.state == old else m for m in design.timeline)
    return replace(keep_states(design, kept), timeline=moved)


def drop_state(design: Design, name: str, base: Iterable[StateSpec]) -> Design:
    """Take one operating state out, and its steps of the timeline."""
    kept = [s for s in base if s.name != name]
    if not kept:
        raise EditError("One operating state has to stay", name, "Change it instead")
    timeline = tuple(m for m in design.timeline if m.state != name)
    return replace(keep_states(design, kept), timeline=timeline)


def set_timeline(design: Design, moments: Iterable[Moment]) -> Design:
    """Replace the timeline. EditError for a step that lasts no time."""
    kept = tuple(moments)
    for number, moment in enumerate(kept, 1):
        if not moment.seconds > 0:
            raise EditError(f"Step {number} lasts no time", moment.state, "Give it more than 0 s")
    return replace(design, timeline=kept)


def note_measured(design: Design, measured: Measured) -> Design:
    """Keep what was measured on the prototype; a second reading of one thing in one state replaces the first."""
    if not 0 < measured.tolerance_pct <= 100:
        raise EditError("The tolerance is a share of the reading", measured.where, "Type 1 to 100 %")
    key = (measured.what, measured.where, measured.state)
    others = tuple(m for m in design.measured if (m.what, m.where, m.state) != key)
    return replace(design, measured=(*others, measured))


def drop_measured(design: Design, index: int) -> Design:
    """Forget one reading."""
    return replace(design, measured=tuple(m for k, m in enumerate(design.measured) if k != index))
