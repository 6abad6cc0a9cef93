"""The wiring list and the longer sentences: round trips, repeats, copies, options, numbers."""

from __future__ import annotations

import networkx as nx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from zesty_trace.core.catalogue.kinds import Catalogue, shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits, group_edits, scenario_edits
from zesty_trace.core.design.model import Design, Option, Part, Pin, StateSpec
from zesty_trace.core.design.scenario_edits import reading
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import export_parts, export_wiring, import_prototype
from zesty_trace.core.wording.completing import completions
from zesty_trace.core.wording.sentences import say, understand
from zesty_trace.core.wording.wiring_list import line_of, read_list, write_list
from zesty_trace.core.wording.words import expand, quote, split_words
from zesty_trace.errors import EditError, InputError

from .test_rules_on_circuits import make

TEXT = st.text(alphabet=st.characters(codec="utf-8", exclude_categories=("C", "Z")), min_size=1, max_size=12)


def same_wiring(a: Design, b: Design) -> None:
    assert a.parts == b.parts
    assert {n: set(p) for n, p in a.nets.items()} == {n: set(p) for n, p in b.nets.items()}
    assert set(a.not_connected) == set(b.not_connected)


@pytest.mark.parametrize("which", ["demo", "mended"])
def test_demo_round_trips_through_its_wiring_list(
    which: str, request: pytest.FixtureRequest, catalogue: Catalogue
) -> None:
    design: Design = request.getfixturevalue(which)
    same_wiring(read_list(write_list(Wired(design, catalogue)), Wired(design, catalogue)), design)


VALUES = {"Ω": "4k7", "F": "100n", "A": "150m", "H": "10u", "V": "5.1"}


@pytest.mark.campaign
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.data())
def test_random_designs_round_trip_through_list_and_tables(data: st.DataObject) -> None:
    catalogue = shipped()
    kinds = sorted(k for k, v in catalogue.kinds.items() if v.pins)
    design = Design(variants=("A", "B"))
    for k in range(data.draw(st.integers(1, 6))):
        kind = catalogue.kind(data.draw(st.sampled_from(kinds)))
        value = VALUES[kind.unit] if kind.unit else (next(iter(kind.options), ""))
        part = Part(
            ref=f"{kind.prefix}{k + 1}",
            kind=kind.id,
            value=value,
            package=data.draw(st.sampled_from(kind.packages)),
            variants=data.draw(st.sampled_from([(), ("A",)])),
            block=data.draw(st.sampled_from(["", "Lamp", "note in it"])),
            notes=data.draw(st.sampled_from(["", 'say "hi" # there', "a\\\\b"])),
        )
        design = edits.add_part(design, part)
        for spec in kind.pins:
            net = data.draw(st.sampled_from(["", "N1", "N2", "3V3", "NC"]))
            if net == "NC":
                design = edits.leave_open(design, Pin(part.ref, spec.number))
            elif net:
                design = edits.connect(design, Pin(part.ref, spec.number), net)
    same_wiring(read_list(write_list(Wired(design, catalogue)), Wired(Design(variants=("A", "B")), catalogue)), design)
    same_wiring(
        import_prototype(export_parts(design), export_wiring(design), catalogue, Design(variants=("A", "B"))), design
    )


@pytest.fixture(scope="module")
def characters() -> None:
    """Have the table of characters made, which takes hypothesis 3 s in a clean checkout and is kept after that."""
    TEXT.validate()


@pytest.mark.usefixtures("characters")
@settings(max_examples=50, deadline=None)
@given(TEXT)
def test_quoted_words_come_back(text: str) -> None:
    assert split_words(quote(text, always=True)) == [(text, True)]


def test_list_says_what_the_nets_say(mended: Design, catalogue: Catalogue) -> None:
    """networkx: the pins joined by the list's lines are the connected pins of the design."""
    graph = nx.Graph()
    for line in write_list(Wired(mended, catalogue)).splitlines():
        if " = " in line and not line.startswith("#"):
            pins, net = line.split(" = ")
            graph.add_edges_from((net, p) for p in pins.split(", "))
    groups = {frozenset(w for w in g if "." in w) for g in nx.connected_components(graph)}
    assert sorted(map(len, groups)) == sorted(len(p) for p in mended.nets.values())


def test_edited_list_changes_the_design_and_keeps_the_rest(mended: Design, catalogue: Catalogue) -> None:
    text = write_list(Wired(mended, catalogue))
    moved = edits.move_on_sheet(mended, {"U3": (4, 5)})
    after = read_list(text + "add R90 resistor 1k\nU3.P19 - R90 - GND\n", Wired(moved, catalogue))
    assert after.parts["R90"].value == "1k"
    assert after.sheet == moved.sheet
    assert after.brief == moved.brief


def test_wrong_line_is_named_and_nothing_changes(mended: Design, catalogue: Catalogue) -> None:
    text = write_list(Wired(mended, catalogue))
    lines = text.splitlines()
    lines.insert(3, "U3.SDAA = SDA")
    with pytest.raises(InputError) as caught:
        read_list("\n".join(lines), Wired(mended, catalogue))
    assert caught.value.where.startswith("line 4")
    assert "SDAA" in str(caught.value)
    with pytest.raises(InputError, match="does not end"):
        read_list('add R1 resistor 1k note "open', Wired(mended, catalogue))


def test_line_of_a_part_or_net(mended: Design, catalogue: Catalogue) -> None:
    text = write_list(Wired(mended, catalogue))
    assert text.splitlines()[line_of(text, ref="U3")].startswith("add U3 controller_32")
    assert text.splitlines()[line_of(text, net="SDA")].endswith("= SDA")
    assert line_of(text, ref="U99") is None


def test_runs_are_written_out() -> None:
    assert expand("U4.Q0..Q3") == ["U4.Q0", "U4.Q1", "U4.Q2", "U4.Q3"]
    assert expand("D3..D1, R7") == ["D3", "D2", "D1", "R7"]
    with pytest.raises(InputError, match="more than"):
        expand("D1..D9999")


@pytest.fixture
def lamp(catalogue: Catalogue) -> Design:
    """A shift register and one lamp: a resistor and an LED in a block of their own."""
    design = make(catalogue, {"U4": "shift_register_8"}, "3V3=U4.VDD; GND=U4.GND")
    design = say("U4.Q0 - R1 330 - D1 red - GND", Wired(design, catalogue))
    return say("block R1, D1 as Lamp", Wired(design, catalogue))


def test_block_is_repeated_on_each_output(lamp: Design, catalogue: Catalogue) -> None:
    after = say("repeat Lamp block x8 on U4.Q0..Q7", Wired(lamp, catalogue))
    nets = after.net_of()
    assert sum(p.kind == "led" for p in after.parts.values()) == 8
    outs = [
        nets[Pin("U4", after_pin.number)]
        for after_pin in catalogue.kind("shift_register_8").pins
        if after_pin.name[:1] == "Q"
    ]
    assert len(set(outs)) == 8
    for out in outs:
        assert sorted(p.ref[0] for p in after.nets[out]) == ["R", "U"]
    cathodes = {nets[Pin(r, "1")] for r in after.parts if r.startswith("D")}
    assert cathodes == {"GND"}
    middles = [n for n, pins in after.nets.items() if {p.ref[0] for p in pins} == {"R", "D"}]
    assert len(middles) == 8


def test_repeat_says_what_is_unclear(lamp: Design, catalogue: Catalogue) -> None:
    with pytest.raises(InputError, match="how often"):
        say("repeat Lamp", Wired(lamp, catalogue))
    with pytest.raises(InputError, match="4 times, but 8 pins"):
        say("repeat Lamp x4 on U4.Q0..Q7", Wired(lamp, catalogue))
    with pytest.raises(InputError, match="neither a part nor a block"):
        say("repeat Lump x2", Wired(lamp, catalogue))


def test_copy_shares_supplies_and_makes_inner_nets_anew(lamp: Design, catalogue: Catalogue) -> None:
    after, names = group_edits.copy_parts(lamp, ["R1", "D1"])
    assert names == {"R1": "R2", "D1": "D2"}
    nets = after.net_of()
    assert nets[Pin("D2", "1")] == "GND"
    assert nets[Pin("R2", "2")] != nets[Pin("R1", "2")]
    assert nets[Pin("R2", "1")] == nets[Pin("R1", "1")]
    with pytest.raises(EditError):
        group_edits.copy_parts(lamp, ["R99"])


def test_decouple_adds_only_what_is_missing(catalogue: Catalogue) -> None:
    design = make(catalogue, {"U2": "controller_32"}, "3V3=U2.VDD U2.VDDA; GND=U2.GND U2.GNDA")
    after = say("decouple U2", Wired(design, catalogue))
    assert sum(p.value == "100n" for p in after.parts.values()) == 2
    assert not [f for f in review(Wired(after, catalogue)) if f.rule == "decoupling" and f.refs == ("U2",)]
    assert say("decouple U2", Wired(after, catalogue)) == after


def test_add_takes_any_kind_with_its_particulars(lamp: Design, catalogue: Catalogue) -> None:
    after = say('add U9 humidity_sensor in SOIC-8 only Full block Bus note "chamber # 2"', Wired(lamp, catalogue))
    part = after.parts["U9"]
    assert (part.package, part.variants, part.block, part.notes) == ("SOIC-8", ("Full",), "Bus", "chamber # 2")
    assert after.variants == ("Full",)
    with pytest.raises(InputError, match="does not come in"):
        say("add U9 humidity_sensor in TO-220", Wired(lamp, catalogue))
    with pytest.raises(InputError, match="needs a value"):
        say("add R9 resistor", Wired(lamp, catalogue))


def test_value_on_one_variant_and_fitting(lamp: Design, catalogue: Catalogue) -> None:
    design = group_edits.add_variant(group_edits.add_variant(lamp, "bright"), "dim")
    design = say("R1 = 1k on dim", Wired(design, catalogue))
    assert design.fitted("dim").parts["R1"].value == "1k"
    assert design.fitted("bright").parts["R1"].value == "330"
    design = say("fit D1 only bright", Wired(design, catalogue))
    assert "D1" not in design.fitted("dim").parts
    assert say("fit D1 always", Wired(design, catalogue)).parts["D1"].variants == ()
    with pytest.raises(InputError, match="no variant"):
        say("fit D1 only blue", Wired(design, catalogue))


def test_completions_offer_verbs_kinds_and_pins(lamp: Design, catalogue: Catalogue) -> None:
    assert "repeat" in completions("rep", Wired(lamp, catalogue))
    assert "humidity_sensor" in completions("add U7 humid", Wired(lamp, catalogue))
    assert "U4.Q3" in completions("U4.Q", Wired(lamp, catalogue))


def test_preview_says_what_a_repeat_does(lamp: Design, catalogue: Catalogue) -> None:
    assert "D2 added (led red)" in understand("repeat Lamp x2 on U4.Q0..Q1", Wired(lamp, catalogue)).preview


def test_new_numbers_follow_everywhere(lamp: Design, catalogue: Catalogue) -> None:
    design = say("copy R1, D1", Wired(lamp, catalogue))
    design = scenario_edits.keep_states(design, [StateSpec(name="s", high=(Pin("U4", "1"),), asleep=("U4",))])
    design = scenario_edits.note_measured(design, reading("current", "R2.1", value=1e-3))
    design = group_edits.put_option(design, Option(name="second", refs=("R2", "D2"), switch="SECOND=1"))
    after = group_edits.renumber(design, ["R2", "D2", "U4", "R1"])
    assert after.parts["R1"].ref == "R1"
    assert after.options[0].refs == ("R1", "D1")
    assert after.measured[0].where == "R1.1"
    assert after.states[0].asleep == ("U1",)
    back = group_edits.rename_refs(after, {"R1": "R2", "R2": "R1", "D1": "D2", "D2": "D1", "U1": "U4", "U2": "U1"})
    assert {n: set(p) for n, p in back.nets.items()} == {n: set(p) for n, p in design.nets.items()}
    with pytest.raises(EditError, match="Two parts"):
        group_edits.rename_refs(design, {"R1": "R2"})


def test_options_bring_what_they_need_and_take_what_needs_them(lamp: Design) -> None:
    design = group_edits.add_variant(group_edits.add_variant(lamp, "full"), "small")
    design = group_edits.put_option(design, Option(name="shift", refs=("U4",), switch="SHIFT=1"))
    design = group_edits.put_option(design, Option(name="lamp", refs=("R1", "D1"), needs=("shift",), switch="LAMP=1"))
    off = group_edits.fit_option(design, "shift", "small", on=False)
    assert off.parts["D1"].variants == ("full",)
    assert group_edits.switches(off, "small") == []
    assert group_edits.switches(off, "full") == ["SHIFT=1", "LAMP=1"]
    on = group_edits.fit_option(off, "lamp", "small", on=True)
    assert on.parts["U4"].variants == ()
    with pytest.raises(EditError, match="no other option"):
        group_edits.put_option(design, Option(name="x", refs=("R1",), needs=("y",)))
    assert group_edits.drop_option(on, "shift").options[0].needs == ()


def test_variants_are_added_and_dropped(lamp: Design) -> None:
    design = group_edits.add_variant(lamp, "full")
    with pytest.raises(EditError, match="there already"):
        group_edits.add_variant(design, "full")
    with pytest.raises(EditError, match="cannot name"):
        group_edits.add_variant(design, "two words")
    with pytest.raises(EditError, match="on no board"):
        group_edits.fit(design, ["R1"], "full", on=False)
    assert group_edits.drop_variant(design, "full").variants == ()
