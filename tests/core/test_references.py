"""Every name of a part, pin, net, variant, state or option follows a rename and goes with what it names."""

from __future__ import annotations

import typing
from collections.abc import Iterator
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits, group_edits, scenario_edits
from zesty_trace.core.design.check import check_design
from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.design.history import History
from zesty_trace.core.design.model import (
    Acceptance,
    Design,
    ImageSpec,
    Measured,
    Moment,
    Names,
    Option,
    Page,
    Part,
    Pin,
    Placement,
    Pour,
    StateSpec,
    TemplateHole,
    Track,
    Via,
)
from zesty_trace.core.design.references import SITES, dangling, forget, lapsed, prune, rename
from zesty_trace.core.findings import Severity, is_worse, with_acceptance
from zesty_trace.core.review.rules import review
from zesty_trace.errors import EditError, InputError


def named_fields(shape: Any, path: str = "") -> Iterator[tuple[str, str]]:
    """Yield (path, what) of each field under a type that is marked as a name, by walking the types alone."""
    if typing.get_origin(shape) is typing.Annotated:
        for mark in typing.get_args(shape)[1:]:
            if isinstance(mark, Names):
                yield path, mark.what
        return
    if shape is Pin:
        yield path, "pin"
    elif isinstance(shape, type) and issubclass(shape, msgspec.Struct):
        for name, kind in typing.get_type_hints(shape, include_extras=True).items():
            yield from named_fields(kind, f"{path}.{name}" if path else name)
    elif typing.get_origin(shape) is dict:
        key, value = typing.get_args(shape)
        yield from named_fields(key, f"{path}{{key}}")
        yield from named_fields(value, f"{path}{{}}")
    else:
        for inner in typing.get_args(shape):
            if inner is not ... and inner is not type(None):
                yield from named_fields(inner, path + ("[]" if typing.get_origin(shape) is tuple else ""))


def test_the_table_holds_every_marked_field_and_no_other() -> None:
    assert sorted(set(named_fields(Design))) == sorted((s.path, s.what) for s in SITES)


def test_a_text_called_like_a_reference_is_marked() -> None:
    """By memory a field is forgotten: one whose name sounds like a reference has to be marked, or be listed here."""
    plain = {"Acceptance.which", "Measured.pin", "ImageSpec.target", "Page.name"}
    sounds = {"ref", "refs", "net", "nets", "variant", "variants", "state", "block", "blocks", "needs"}
    structs = [s for s in vars(__import__("zesty_trace.core.design.model", fromlist=["x"])).values() if _is_struct(s)]
    for shape in structs:
        for name, kind in typing.get_type_hints(shape, include_extras=True).items():
            if name in sounds and f"{shape.__name__}.{name}" not in plain:
                assert list(named_fields(kind)), f"{shape.__name__}.{name}"


def _is_struct(value: object) -> bool:
    return isinstance(value, type) and issubclass(value, msgspec.Struct) and value is not msgspec.Struct


def whole() -> Design:
    """Return a small design that fills every field of the table."""
    parts = {
        "R1": Part(ref="R1", kind="resistor", variants=("big",), values={"big": "1k"}, block="A"),
        "R2": Part(ref="R2", kind="resistor", block="B"),
        "U1": Part(ref="U1", kind="controller_32"),
    }
    nets = {
        "A": (Pin("R1", "1"), Pin("U1", "1")),
        "B": (Pin("R1", "2"), Pin("R2", "1")),
        "C": (Pin("R2", "2"), Pin("U1", "2")),
    }
    design = Design(parts=parts, nets=nets, variants=("big", "small"), not_connected=(Pin("U1", "3"),))
    design = edits.move_on_sheet(design, {"R1": (1, 1), "R2": (2, 2)})
    design = edits.set_board(
        design,
        placements={r: Placement(x_nm=k * 1000, y_nm=0) for k, r in enumerate(parts)},
        tracks=tuple(Track(net=n, layer="top", width_nm=1000, points=((0, 0), (1, 1))) for n in nets),
        vias=tuple(Via(net=n, x_nm=0, y_nm=0) for n in nets),
        pours=(Pour(net="C", layer="bottom"),),
    )
    design = edits.set_brief(design, template=(TemplateHole(ref="R1", x_nm=0, y_nm=0),))
    design = replace(design, build=replace(design.build, variant="big"))
    design = edits.set_images(design, [ImageSpec(file="a.hex", target="t", variant="big")])
    states = [
        StateSpec(name="on", high=(Pin("U1", "1"),), flipped=("R1",), asleep=("U1",)),
        StateSpec(name="off"),
    ]
    design = scenario_edits.keep_states(design, states)
    design = scenario_edits.set_timeline(design, [Moment(state="on", seconds=1), Moment(state="off", seconds=2)])
    for item in (
        Measured(net="A", value=1.0, state="on"),
        Measured(ref="R1", value=0.1),
        Measured(ref="U1", pin="VDD", value=0.2),
    ):
        design = scenario_edits.note_measured(design, item)
    design = group_edits.put_option(design, Option(name="first", refs=("R1",)))
    design = group_edits.put_option(design, Option(name="second", refs=("R1", "R2"), needs=("first",)))
    design = group_edits.set_pages(design, [Page(name="one", blocks=("A", "B"))])
    for item in (
        Acceptance(rule="x", refs=("R1",), reason="a"),
        Acceptance(rule="x", pins=(Pin("R2", "1"),), nets=("B",), reason="b"),
        Acceptance(rule="x", nets=("C",), reason="c"),
        Acceptance(rule="x", reason="d"),
    ):
        design = edits.accept(design, item)
    return design


def text_of(design: Design) -> str:
    return msgspec.json.encode(design).decode()


@pytest.mark.parametrize(
    ("what", "old", "new"),
    [
        ("part", "R1", "R77"),
        ("net", "B", "LINE_77"),
        ("variant", "big", "huge77"),
        ("state", "on", "lit77"),
        ("option", "first", "basic77"),
        ("block", "A", "Power77"),
    ],
)
def test_a_new_name_stands_wherever_the_old_one_stood(what: typing.Any, old: str, new: str) -> None:
    before = whole()
    after = rename(before, what, {old: new})
    check_design(after)
    assert text_of(rename(after, what, {new: old})) == text_of(before)
    assert text_of(after).count(new) == sum(_counted(before, s.path, s.what, what, old) for s in SITES)
    assert not any(_counted(after, s.path, s.what, what, old) for s in SITES)


def _counted(design: Design, path: str, of: str, what: str, name: str) -> int:
    """Return how often a path names something, by a walk of its own over plain values."""
    values: list[Any] = [msgspec.to_builtins(design)]
    for step in path.replace("[]", ".[]").replace("{key}", ".{key}").replace("{}", ".{}").split("."):
        if step == "[]":
            values = [x for v in values for x in v]
        elif step == "{}":
            values = [x for v in values for x in v.values()]
        elif step == "{key}":
            values = [x for v in values for x in v]
        else:
            values = [v[step] for v in values]
    if of == "pin":
        return sum(v[0] == name for v in values) if what == "part" else 0
    return sum(v == name for v in values) if of == what else 0


def test_two_names_are_swapped_at_once_and_acceptances_follow() -> None:
    before = whole()
    after = group_edits.rename_refs(before, {"R1": "R2", "R2": "R1"})
    assert after.accepted[0].refs == ("R2",)
    assert after.accepted[1].pins == (Pin("R1", "1"),)
    assert after.measured[1].ref == "R2"
    assert group_edits.rename_refs(after, {"R1": "R2", "R2": "R1"}) == replace(before, parts=after.parts) or (
        group_edits.rename_refs(after, {"R1": "R2", "R2": "R1"}) == before
    )


def test_an_accepted_terminal_stays_the_accepted_one(catalogue: Catalogue) -> None:
    """A licensed person looked at one terminal; swapping the references must not pass their word to the other."""
    parts = {r: Part(ref=r, kind="mains_terminal_2", value="230") for r in ("J1", "J2")}
    design = Design(
        parts=parts,
        nets={"L1": (Pin("J1", "1"),), "L2": (Pin("J2", "1"),), "GND": (Pin("J1", "2"), Pin("J2", "2"))},
    )
    finding = next(f for f in review(Wired(design, catalogue)) if f.rule == "mains" and f.refs == ("J1",))
    accepted = edits.accept(design, finding.acceptance("a licensed person looked, 230 V", "2026-11-26"))
    swapped = group_edits.rename_refs(accepted, {"J1": "J2", "J2": "J1"})
    judged = with_acceptance(review(Wired(swapped, catalogue)), swapped.accepted)
    mains = {f.refs: f.accepted for f in judged if f.rule == "mains"}
    assert mains == {("J2",): "a licensed person looked, 230 V", ("J1",): ""}


def test_a_removed_part_is_named_nowhere() -> None:
    before = whole()
    after = edits.remove_part(before, "R1")
    check_design(after)
    assert '"R1"' not in text_of(after)
    assert [o.name for o in after.options] == ["second"]  # the first had no other part
    assert after.options[0].needs == ()
    assert after.measured == (before.measured[0], before.measured[2])
    assert [a.reason for a in lapsed(before, after)] == ["a"]
    assert any(line == "counts again: x: R1" for line in describe_changes(before, after))


def test_nets_that_lose_their_last_pin_go_with_all_that_names_them() -> None:
    after = edits.remove_part(edits.remove_part(whole(), "R2"), "U1")
    check_design(after)
    assert set(after.nets) == {"A", "B"}
    assert {t.net for t in after.board.tracks} == {"A", "B"}
    assert after.board.pours == ()
    assert [a.reason for a in after.accepted] == ["a", "d"]


def test_merged_nets_keep_their_readings_and_acceptances() -> None:
    before = whole()
    after = edits.merge_nets(before, "A", "B")
    check_design(after)
    kept = next(iter({"A", "B"} & set(after.nets)))
    assert [m.net for m in after.measured if m.net] == [kept]
    assert [a.nets for a in after.accepted if a.reason == "b"] == [(kept,)]
    assert {t.net for t in after.board.tracks} == {kept, "C"}


def test_a_dropped_variant_takes_its_images_along() -> None:
    after = group_edits.drop_variant(whole(), "big")
    check_design(after)
    assert '"big"' not in text_of(after)
    assert after.images == ()
    assert after.build.variant == ""
    assert after.parts["R1"].values == {}


def test_what_names_nothing_is_pruned_and_refused() -> None:
    good = whole()
    assert prune(good) is good
    assert dangling(good) == []
    bad = replace(
        good,
        options=(Option(name="o", refs=("R9",)), *good.options),
        images=(ImageSpec(file="a.hex", target="t"),),
        states=(StateSpec(name="on", flipped=("R9",)),),
        accepted=(Acceptance(rule="x", nets=("GONE",), reason="r"), *good.accepted),
    )
    assert {name for _, name in dangling(bad)} == {"R9", "GONE", "off"}
    with pytest.raises(InputError, match="not there"):
        check_design(bad)
    mended = prune(bad)
    check_design(mended)
    assert [o.name for o in mended.options] == ["first", "second"]
    assert mended.states == (StateSpec(name="on"),)
    assert [m.state for m in mended.timeline] == ["on"]
    assert forget(mended, "part", ()) is mended


EDITS: dict[str, typing.Callable[[Design, int], Design]] = {
    "remove": lambda d, k: edits.remove_part(d, nth(d.parts, k)),
    "remove several": lambda d, k: group_edits.remove_parts(d, list(d.parts)[: k % 3]),
    "swap": lambda d, k: group_edits.rename_refs(
        d, dict(zip([nth(d.parts, k), nth(d.parts, k + 1)], [nth(d.parts, k + 1), nth(d.parts, k)], strict=True))
    ),
    "renumber": lambda d, k: group_edits.renumber(d, list(d.parts)[k % 2 :]),
    "copy": lambda d, k: group_edits.copy_parts(d, [nth(d.parts, k)])[0],
    "connect": lambda d, k: edits.connect(d, pin_of(d, k), nth([*d.nets, "NEW"], k)),
    "disconnect": lambda d, k: edits.disconnect(d, pin_of(d, k)),
    "leave open": lambda d, k: edits.leave_open(d, pin_of(d, k)),
    "join": lambda d, k: edits.join_pins(d, pin_of(d, k), pin_of(d, k + 3)),
    "merge": lambda d, k: edits.merge_nets(d, nth(d.nets, k), nth(d.nets, k + 1)),
    "rename net": lambda d, k: edits.rename_net(d, nth(d.nets, k), f"N{k}"),
    "drop variant": lambda d, k: group_edits.drop_variant(d, nth(d.variants, k)),
    "drop option": lambda d, k: group_edits.drop_option(d, nth([o.name for o in d.options], k)),
    "drop state": lambda d, k: scenario_edits.drop_state(d, nth([s.name for s in d.states], k), d.states),
    "rename state": lambda d, k: scenario_edits.put_state(
        d, replace(nth(d.states, k), name=f"s{k}"), d.states, nth(d.states, k).name
    ),
    "accept": lambda d, k: edits.accept(d, Acceptance(rule="y", nets=(nth(d.nets, k),), reason="r")),
    "reading": lambda d, k: scenario_edits.note_measured(d, Measured(ref=nth(d.parts, k), value=1.0)),
    "block": lambda d, k: group_edits.set_block(d, [nth(d.parts, k)], f"B{k}"),
}


def nth(things: Any, k: int) -> Any:
    found = list(things)
    if not found:
        raise EditError("none left", "", "")
    return found[k % len(found)]


def pin_of(design: Design, k: int) -> Pin:
    return Pin(nth(design.parts, k), str(1 + k % 3))


@pytest.mark.campaign
@settings(max_examples=120, deadline=None)
@given(st.lists(st.tuples(st.sampled_from(sorted(EDITS)), st.integers(0, 40)), min_size=1, max_size=14))
def test_any_run_of_edits_leaves_nothing_dangling_and_undo_gives_the_same_back(steps: list[tuple[str, int]]) -> None:
    history = History(whole())
    values = [history.design]
    for name, k in steps:
        try:
            changed = history.do(name, lambda d, name=name, k=k: EDITS[name](d, k))
        except EditError:
            continue
        assert dangling(history.design) == []
        check_design(history.design)
        if changed:
            values.append(history.design)
    for value in reversed(values[:-1]):
        history.undo()
        assert history.design is value


# Acceptances ----------------------------------------------------------------------------------------------------------


def test_an_acceptance_lapses_when_its_number_is_worse_and_says_so(mended: Design, catalogue: Catalogue) -> None:
    bright = edits.change_part(mended, "R14", value="10")
    before = next(f for f in review(Wired(bright, catalogue)) if f.rule == "LED current")
    accepted = edits.accept(bright, before.acceptance("it blinks, and is off most of the time", "2026-11-26"))
    judged = with_acceptance(review(Wired(accepted, catalogue)), accepted.accepted)
    same = next(f for f in judged if f.rule == "LED current")
    assert same.severity is Severity.NOTE
    assert same.accepted == "it blinks, and is off most of the time"
    more = edits.change_part(accepted, "R14", value="4.7")
    worse = next(f for f in with_acceptance(review(Wired(more, catalogue)), more.accepted) if f.rule == "LED current")
    assert worse.value > before.value
    assert worse.accepted == ""
    assert worse.severity <= Severity.FIX
    assert "Accepted at" in worse.detail
    assert "off most of the time" in worse.detail


@pytest.mark.parametrize(
    ("then", "limit", "now", "worse"),
    [
        (2.0, 1.0, 2.0, False),
        (2.0, 1.0, 2.015, False),  # within a hundredth: noise of a solution
        (2.0, 1.0, 2.1, True),
        (2.0, 1.0, 1.5, False),  # better
        (0.5, 1.0, 0.4, True),  # too little, and less now
        (0.5, 1.0, 0.6, False),
        (-3.0, 1.0, -4.0, True),
        (5.0, None, 6.0, True),
        (5.0, None, 4.0, False),
        (None, None, 4.0, False),
    ],
)
def test_worse_is_further_on_the_wrong_side(
    mended: Design, catalogue: Catalogue, then: float | None, limit: float | None, now: float, worse: bool
) -> None:
    from dataclasses import replace as with_fields

    hot = edits.set_brief(mended, supply_limit_a=0.1)
    base = next(f for f in review(Wired(hot, catalogue)) if f.rule == "supply overload")
    accepted = with_fields(base, value=then, limit=limit).acceptance("r")
    assert is_worse(with_fields(base, value=now, limit=limit), accepted) is worse
    assert is_worse(with_fields(base, value=now, limit=limit, unit="kA"), accepted) is (then is not None)


def test_an_acceptance_is_replaced_taken_back_and_needs_a_reason() -> None:
    design = whole()
    first = Acceptance(rule="z", refs=("R1", "R2"), reason="one")
    again = Acceptance(rule="z", refs=("R2", "R1"), reason="two", value=3.0)
    kept = edits.accept(edits.accept(design, first), again)
    assert [a.reason for a in kept.accepted if a.rule == "z"] == ["two"]
    assert edits.take_back(kept, first) == design
    with pytest.raises(EditError, match="reason"):
        edits.accept(design, Acceptance(rule="z", reason="  "))
