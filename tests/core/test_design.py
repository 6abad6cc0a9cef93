"""The frozen design: edits, undo, differences in words, JSON."""

from __future__ import annotations

import json

import jsonschema
import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zesty_trace.core.design import edits
from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.design.history import History
from zesty_trace.core.design.model import Design, Part, Pin, Track, json_schema, to_json
from zesty_trace.core.design.reading import from_json
from zesty_trace.errors import EditError


def small() -> Design:
    design = Design(name="Two parts")
    for ref, kind, value in (("R1", "resistor", "330"), ("D1", "led", "red")):
        design = edits.add_part(design, Part(ref=ref, kind=kind, value=value))
    design = edits.connect(design, Pin("R1", "2"), "A")
    return edits.connect(design, Pin("D1", "2"), "A")


def test_an_edit_never_changes_its_argument() -> None:
    before = small()
    kept = to_json(before)
    edits.connect(before, Pin("R1", "1"), "B")
    edits.remove_part(before, "D1")
    edits.rename_net(before, "A", "X")
    assert to_json(before) == kept


def test_design_refuses_assignment() -> None:
    with pytest.raises(AttributeError):
        small().name = "other"  # type: ignore[misc]


def test_connecting_a_pin_takes_it_off_its_old_net() -> None:
    design = edits.connect(small(), Pin("R1", "2"), "B")
    assert design.nets["B"] == (Pin("R1", "2"),)
    assert design.nets["A"] == (Pin("D1", "2"),)


def test_joining_two_nets_keeps_the_one_with_more_pins_and_renames_copper() -> None:
    design = edits.connect(small(), Pin("D1", "1"), "B")
    track = Track(net="B", layer="top", width_nm=250_000, points=((0, 0), (1, 1)))
    design = edits.set_copper(design, [track], [], [])
    design = edits.join_pins(design, Pin("D1", "1"), Pin("R1", "2"))
    assert set(design.nets) == {"A"}
    assert design.board.tracks[0].net == "A"


@pytest.mark.parametrize(
    "edit",
    [
        lambda d: edits.remove_part(d, "X9"),
        lambda d: edits.connect(d, Pin("X9", "1"), "A"),
        lambda d: edits.connect(d, Pin("R1", "1"), "two words"),
        lambda d: edits.rename_net(d, "nowhere", "B"),
        lambda d: edits.add_part(d, Part(ref="R1", kind="resistor")),
        lambda d: edits.nudge(d, "R1", dx_nm=1),
        lambda d: edits.note_change(d, "  "),
        lambda d: edits.set_outline(d, [(0, 0), (1, 1)]),
        lambda d: edits.set_name(d, ""),
    ],
)
def test_an_edit_that_cannot_apply_says_where_and_what_to_do(edit) -> None:
    with pytest.raises(EditError) as caught:
        edit(small())
    assert caught.value.where
    assert caught.value.hint


def test_undo_and_redo_walk_the_whole_history() -> None:
    history = History(small())
    values = [history.design]
    for k in range(200):
        history.do(f"value {k}", lambda d, k=k: edits.change_part(d, "R1", value=str(k + 1)))
        values.append(history.design)
    for expected in reversed(values[:-1]):
        history.undo()
        assert history.design is expected
    assert history.undo() is None
    for expected in values[1:]:
        history.redo()
        assert history.design is expected
    assert history.redo() is None


def test_an_edit_after_undo_drops_what_was_undone_and_a_void_edit_is_no_step() -> None:
    history = History(small())
    first = history.design
    history.do("a", lambda d: edits.set_name(d, "A"))
    history.undo()
    history.do("b", lambda d: edits.set_name(d, "B"))
    assert history.redo() is None
    assert history.do("nothing", lambda d: d) is False
    assert history.has_ancestor(first)
    assert not history.has_ancestor(small())


def test_changes_are_told_in_words() -> None:
    old = small()
    new = edits.change_part(old, "R1", value="470")
    new = edits.connect(new, Pin("R1", "2"), "B")
    new = edits.set_brief(new, quantity=5)
    words = describe_changes(old, new)
    assert "R1, value: 330 became 470" in words
    assert "R1.2 moved from A to B" in words
    assert "brief, quantity: 1 became 5" in words
    assert describe_changes(old, old) == []


def test_renaming_a_net_is_one_sentence_not_one_a_pin() -> None:
    old = small()
    assert describe_changes(old, edits.rename_net(old, "A", "ANODE")) == ["net A is now called ANODE"]


@pytest.mark.parametrize(("before", "after"), [("A", "B"), ("Z", "AA"), ("AZ", "BA")])
def test_revisions_count_like_columns_of_a_table(before: str, after: str) -> None:
    assert edits.next_revision(Design(revision=before)).revision == after


def test_json_keeps_everything_and_its_order(demo: Design) -> None:
    back = from_json(to_json(demo))
    assert back == demo
    assert list(back.parts) == list(demo.parts)
    assert to_json(back) == to_json(demo)


def test_json_fits_its_own_schema(demo: Design) -> None:
    jsonschema.validate(json.loads(to_json(demo)), json_schema())


names = st.text("ABCDEFGH0123456789_", min_size=1, max_size=6)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.sampled_from(["R1", "D1"]), st.sampled_from("12"), names), max_size=12))
def test_no_pin_is_ever_on_two_nets(steps: list[tuple[str, str, str]]) -> None:
    design = small()
    for ref, number, net in steps:
        design = edits.connect(design, Pin(ref, number), net)
    pins = [p for group in design.nets.values() for p in group]
    assert len(pins) == len(set(pins))
    assert all(design.nets.values())
    assert msgspec.json.decode(to_json(design), type=Design) == design
