"""Edits of what is asked of the circuit: operating states, the timeline, and what was measured on the prototype."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec.structs import replace

from zesty_trace.core.design.model import Design, Measured, Moment, StateSpec
from zesty_trace.core.design.references import forget, prune, rename
from zesty_trace.errors import EditError


def keep_states(design: Design, states: Iterable[StateSpec]) -> Design:
    """Replace the operating states; none means that they are proposed from the parts.

    EditError for a name used twice.
    """
    kept = tuple(states)
    names = [s.name for s in kept]
    for name in names:
        if not name.strip():
            raise EditError("An operating state needs a name", "states", "Type one or more letters")
        if names.count(name) > 1:
            raise EditError(f"Two operating states are called “{name}”", name, "Give one of them another name")
    return prune(replace(design, states=kept))


def put_state(design: Design, state: StateSpec, base: Iterable[StateSpec], old_name: str = "") -> Design:
    """Change or add one operating state among `base`, the states there are now; the timeline follows a new name."""
    old = old_name or state.name
    kept = list(base)
    index = next((k for k, s in enumerate(kept) if s.name == old), len(kept))
    kept[index : index + 1] = [state]
    return keep_states(rename(design, "state", {old: state.name}), kept)


def drop_state(design: Design, name: str, base: Iterable[StateSpec]) -> Design:
    """Take one operating state out, and its steps of the timeline."""
    kept = [s for s in base if s.name != name]
    if not kept:
        raise EditError("One operating state has to stay", name, "Change it instead")
    return forget(keep_states(design, kept), "state", [name])


def set_timeline(design: Design, moments: Iterable[Moment]) -> Design:
    """Replace the timeline. EditError for a step that lasts no time."""
    kept = tuple(moments)
    for number, moment in enumerate(kept, 1):
        if not moment.seconds > 0:
            raise EditError(f"Step {number} lasts no time", moment.state, "Give it more than 0 s")
        _state_there(design, moment.state)
    return replace(design, timeline=kept)


def reading(
    what: Literal["voltage", "current"], where: str, value: float, tolerance_pct: float = 10.0, state: str = ""
) -> Measured:
    """Return a reading of the voltage of a net, or of the current of a part (`J1`) or into a pin (`U3.VDD`)."""
    net, (ref, _, pin) = ("", where.partition(".")) if what == "current" else (where, ("", "", ""))
    return Measured(net=net, ref=ref, pin=pin, value=value, tolerance_pct=tolerance_pct, state=state)


def note_measured(design: Design, measured: Measured) -> Design:
    """Keep what was measured on the prototype; a second reading of one thing in one state replaces the first."""
    if not 0 < measured.tolerance_pct <= 100:
        raise EditError("The tolerance is a share of the reading", measured.where, "Type 1 to 100 %")
    if measured.net and measured.net not in design.nets:
        raise EditError(f"There is no net {measured.net}", measured.where, "Check the name in the wiring list")
    if not measured.net and measured.ref not in design.parts:
        raise EditError(f"There is no part {measured.ref}", measured.where, "Check the reference")
    _state_there(design, measured.state)
    key = (measured.what, measured.where, measured.state)
    others = tuple(m for m in design.measured if (m.what, m.where, m.state) != key)
    return replace(design, measured=(*others, measured))


def _state_there(design: Design, name: str) -> None:
    """Refuse a state that is none of the design's own; without own ones, those of the parts are not known here."""
    if name and design.states and all(s.name != name for s in design.states):
        known = ", ".join(s.name for s in design.states)
        raise EditError(f"There is no state “{name}”", name, f"Known: {known}")


def drop_measured(design: Design, index: int) -> Design:
    """Forget one reading."""
    return replace(design, measured=tuple(m for k, m in enumerate(design.measured) if k != index))
