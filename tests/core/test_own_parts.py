"""Parts of the user's own: pin tables, checks, TOML that is read back; module or bare; import with repair.

Prototype readings.
"""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zesty_trace.core.catalogue.facts import FORMER_NAMES, Facts
from zesty_trace.core.catalogue.kinds import ROLES, Catalogue, PinSpec, line_of_entry, read_kinds, shipped
from zesty_trace.core.catalogue.make_part import check_package, guess_role, make_kind, read_pin_table, write_kind
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits, scenario_edits
from zesty_trace.core.design.model import Design, Part, Pin, TemplateHole
from zesty_trace.core.design.scenario_edits import reading
from zesty_trace.core.review.brief import brief_findings
from zesty_trace.core.review.connections import unaccounted_pins
from zesty_trace.core.review.prototype import compare, predict, prototype_findings
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.core.tables.repair import guess_kinds, preview_import
from zesty_trace.core.wording.swap import propose, swappable
from zesty_trace.errors import EditError, InputError
from zesty_trace.journey.kinds import carry_kinds, keep_kind, project_catalogue
from zesty_trace.store.own import keep_names, load_names

from ..conftest import TODAY
from .test_rules_on_circuits import make

TABLE = """Pin  Name  Type  What it does
1    OUT   O     Output of the sensor
2    VSS   P     Ground
3    VDD   P     Supply, 2.0 to 5.5 V
"""


# Make a part ----------------------------------------------------------------------------------------------------------


def test_pin_table_from_a_data_sheet() -> None:
    assert read_pin_table(TABLE) == (
        PinSpec("1", "OUT", "output"),
        PinSpec("2", "VSS", "ground"),
        PinSpec("3", "VDD", "supply_in"),
    )
    csv = "2;GND;\n1;SDA;open_drain\n3;SCL;I\n"
    assert [p.role for p in read_pin_table(csv)] == ["open_drain", "ground", "input"]
    assert read_pin_table("VDD 1 power\nGND 2")[0] == PinSpec("1", "VDD", "supply_in")


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ("1, A\n1, B", "line 2", "line 1 already"),
        ("1, A\nfoo bar", "line 2", "no pin number"),
        ("1", "line 1", "no pin name"),
        ("# nothing\n", "", "empty"),
    ],
)
def test_pin_table_says_which_line_is_wrong(text: str, line: str, said: str) -> None:
    with pytest.raises(InputError) as caught:
        read_pin_table(text)
    assert line in caught.value.where
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("VDD", "supply_in"),
        ("AVCC", "supply_in"),
        ("GND", "ground"),
        ("VSSA", "ground"),
        ("NC", "no_connect"),
        ("P3", "bidirectional"),
        ("ANT", "passive"),
        ("3V3", "supply_in"),
    ],
)
def test_roles_guessed_from_names(name: str, role: str) -> None:
    assert guess_role(name, []) == role


def made(catalogue: Catalogue, **changes: object):
    facts = {
        "kind_id": "float_switch_chip",
        "title": "Float switch chip",
        "prefix": "U",
        "package": "SOT-23",
        "pins": read_pin_table(TABLE),
        "facts": Facts(supply_min_v=2.0, supply_max_v=5.5),
        "supply_a": 0.002,
        "catalogue": catalogue,
    }
    return make_kind(**{**facts, **changes})  # type: ignore[arg-type]


def test_made_part_is_written_read_back_and_solved(catalogue: Catalogue, tmp_path: Path) -> None:
    kind = made(catalogue)
    path = tmp_path / "float.toml"
    path.write_text(write_kind(kind), "utf-8")
    assert read_kinds(path, catalogue) == {kind.id: kind}
    own = Catalogue({**catalogue.kinds, kind.id: kind}, catalogue.packages)
    design = make(own, {"U2": kind.id}, "3V3=U2.VDD; GND=U2.VSS; NC=U2.OUT")
    amps = analyse(Wired(design, own)).worst().solution.pin_currents()
    assert amps[Pin("U2", "3")] == pytest.approx(0.002, rel=0.02)


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"package": "SOIC-8"}, "lacks pin"),
        ({"kind_id": "resistor"}, "already"),
        ({"kind_id": "No good"}, "cannot name"),
        ({"prefix": "u1"}, "cannot begin"),
        ({"facts": Facts(supply_min_v=5.0, supply_max_v=3.0)}, "up to 3"),
        ({"pins": (*read_pin_table(TABLE), PinSpec("9", "X", "input"))}, "no pad 9"),
    ],
)
def test_what_does_not_fit_is_refused(catalogue: Catalogue, changes: dict, said: str) -> None:
    with pytest.raises(InputError, match=said):
        made(catalogue, **changes)


def test_package_is_counted_or_suggested(catalogue: Catalogue) -> None:
    assert check_package(catalogue, "SOIC-8") == 8
    with pytest.raises(InputError, match="SOIC"):
        check_package(catalogue, "SOIC8")


@settings(max_examples=40, deadline=None)
@given(st.lists(st.sampled_from(list(ROLES)), min_size=8, max_size=8))
def test_any_pins_survive_the_way_through_toml(tmp_path_factory: pytest.TempPathFactory, roles: list[str]) -> None:
    catalogue = shipped()
    pins = tuple(PinSpec(str(k + 1), f"N{k}", role) for k, role in enumerate(roles))
    kind = make_kind("own_part", "Own “part”", "U", "SOIC-8", pins, Facts(), 0.001, catalogue)
    path = tmp_path_factory.mktemp("own") / "own.toml"
    path.write_text(write_kind(kind), "utf-8")
    assert read_kinds(path, catalogue)["own_part"] == kind


def test_errors_in_a_users_file_name_the_line(catalogue: Catalogue, tmp_path: Path) -> None:
    pins = 'pins = [\n  ["1", "A", "input"],\n  ["2", "B", "inputt"],\n]\n'
    text = f'[bad]\ntitle = "b"\nprefix = "U"\npackages = ["SOT-23"]\n{pins}model = {{ type = "open" }}\n'
    path = tmp_path / "own.toml"
    path.write_text(text, "utf-8")
    with pytest.raises(InputError) as caught:
        read_kinds(path, catalogue)
    assert "line 7" in caught.value.where
    path.write_text(text.replace("inputt", "input").replace('prefix = "U"', "prefix = 5"), "utf-8")
    with pytest.raises(InputError) as caught:
        read_kinds(path, catalogue)
    assert "line 3" in caught.value.where
    assert line_of_entry(text, "bad", ".pins[0]") == 6
    path.write_text(text.replace("inputt", "input").replace('"SOT-23"', '"SOT-24"'), "utf-8")
    with pytest.raises(InputError, match="SOT-23"):
        read_kinds(path, catalogue)
    path.write_text(
        text.replace("inputt", "input").replace(
            'type = "open"', 'type = "load", i_supply = 0.001, supply = "VDD", ground = "B"'
        ),
        "utf-8",
    )
    with pytest.raises(InputError, match="VDD that it does not have"):
        read_kinds(path, catalogue)


def test_own_kinds_travel_with_the_project(
    catalogue: Catalogue, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    kind = made(catalogue)
    keep_kind(kind, tmp_path / "first")
    other = project_catalogue(tmp_path / "second")
    assert kind.id in other.kinds
    design = edits.add_part(Design(), Part(ref="U1", kind=kind.id))
    assert carry_kinds(design, tmp_path / "second", other) == [kind.id]
    assert carry_kinds(design, tmp_path / "second", other) == []
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "elsewhere"))
    assert kind.id in project_catalogue(tmp_path / "second").kinds


# Module or bare -------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def plugged(catalogue: Catalogue) -> Design:
    """A plug-in controller with a sensor on its bus."""
    parts = {"U2": "controller_plug_in", "U3": "humidity_sensor", "R1": "resistor 4k7", "R2": "resistor 4k7"}
    nets = (
        "5V=U2.VIN; GND=U2.GND U2.GND2 U3.GND U3.ADR; LOGIC=U2.3V3 U3.VDD U3.NRST R1.1 R2.1; SDA=U2.SDA U3.SDA R1.2;"
        "SCL=U2.SCL U3.SCL R2.2; NC=U3.ALERT"
    )
    return make(catalogue, parts, nets)


def test_module_becomes_a_bare_chip_with_what_it_needs(plugged: Design, catalogue: Catalogue) -> None:
    proposal = propose(Wired(plugged, catalogue), "U2")
    bare = proposal.design
    assert bare.parts["U2"].kind == "controller_32"
    nets = bare.net_of()
    assert nets[Pin("U2", "26")] == "SDA"
    assert nets[Pin("U2", "8")] == "LOGIC"
    assert analyse(Wired(bare, catalogue)).worst().net_voltages()["LOGIC"] == pytest.approx(3.3, rel=0.02)
    about = {f.rule for f in review(Wired(bare, catalogue)) if "U2" in f.refs}
    assert not about & {"decoupling", "reset network", "boot strap", "programming access", "unconnected pin"}
    assert proposal.after.parts > proposal.before.parts
    assert proposal.after.height_mm < proposal.before.height_mm
    assert proposal.after.cost_eur < proposal.before.cost_eur
    assert not [p for p in unaccounted_pins(Wired(bare, catalogue)) if p.ref == "U2"]


def test_and_back_again(plugged: Design, catalogue: Catalogue) -> None:
    bare = propose(Wired(plugged, catalogue), "U2").design
    back = propose(Wired(bare, catalogue), "U2").design
    assert sorted(back.parts) == sorted(plugged.parts)
    assert {n: set(p) for n, p in back.nets.items() if len(p) > 1} == {n: set(p) for n, p in plugged.nets.items()}
    assert swappable(back) == ["U2"]
    with pytest.raises(EditError, match="no other form"):
        propose(Wired(plugged, catalogue), "U3")


# Import with repair ---------------------------------------------------------------------------------------------------

PARTS = "Reference;Type;Value;Footprint\nR1;Res;10k;\nC1;ceramic cap;100n;\nU1;humid sensor;;\nR2;Res;4k7;\n"
WIRES = "Signal;Part;Pin\n3V3;R1;1\n3V3;U1;VDD\nGND;U1;GND\nGND;C1;2\n3V3;C1;1\n"


def test_unknown_kinds_are_gathered_with_guesses(catalogue: Catalogue) -> None:
    preview = preview_import(PARTS, WIRES, catalogue)
    assert preview.design is None
    assert {u.word: u.refs for u in preview.unknown} == {
        "Res": ("R1", "R2"),
        "ceramic cap": ("C1",),
        "humid sensor": ("U1",),
    }
    best = {u.word: u.guesses[0] for u in preview.unknown}
    assert best == {"Res": "resistor", "ceramic cap": "ceramic_capacitor", "humid sensor": "humidity_sensor"}
    assert preview.problems == ()
    assert "3 unknown kinds" in preview.say()
    mended = preview_import(PARTS, WIRES, catalogue, names={w.lower(): k for w, k in best.items()})
    assert mended.design is not None
    assert "4 parts and 2 nets" in mended.say()


def test_other_problems_stay_in_sight(catalogue: Catalogue) -> None:
    preview = preview_import("ref,kind,value\nR1,resistor,ten\nX1,gizmo,\n", "net,ref,pin\nA,R1,7\n", catalogue)
    assert [u.word for u in preview.unknown] == ["gizmo"]
    assert {p.column for p in preview.problems} == {"value", "pin"}
    assert "more problems" in preview.say()


def test_guesses_follow_the_letters_of_the_reference(catalogue: Catalogue) -> None:
    assert guess_kinds("10uF electro", ["C3"], catalogue)[0] == "electrolytic_capacitor"
    assert catalogue.kinds[guess_kinds("thing", ["Q1"], catalogue)[0]].prefix == "Q"


def test_words_are_remembered(tmp_path: Path) -> None:
    path = tmp_path / "config" / "names.json"
    assert load_names(path) == {}
    keep_names({"Res": "resistor"}, path)
    assert keep_names({"Cap": "ceramic_capacitor"}, path) == {"res": "resistor", "cap": "ceramic_capacitor"}
    path.write_text("damaged")
    assert load_names(path) == {}


def test_import_takes_remembered_words(catalogue: Catalogue) -> None:
    design = import_prototype(
        "ref,kind,value\nR1,Res,1k\n", "net,ref,pin\nA,R1,1\n", catalogue, names={"res": "resistor"}
    )
    assert design.parts["R1"].kind == "resistor"


# Prototype readings ---------------------------------------------------------------------------------------------------


def test_readings_beside_the_model(mended: Design, catalogue: Catalogue) -> None:
    """Hand-worked, all off: 98 mA of 3.3 V by a linear part from 5 V, and 25 mA, at 90 % from 12 V: 57 mA."""
    design = scenario_edits.note_measured(mended, reading("voltage", "3V3", value=3.28, tolerance_pct=3))
    design = scenario_edits.note_measured(design, reading("current", "J1", value=0.18, state="all off"))
    voltage, current = compare(Wired(design, catalogue))
    assert voltage.agrees
    assert not current.agrees
    assert current.predicted == pytest.approx(0.058, abs=0.01)
    finding = prototype_findings(Wired(design, catalogue))[0]
    assert "the prototype drew 180 mA, the model says" in finding.title
    assert finding.station == "brief"


def test_readings_that_cannot_be_placed(mended: Design, catalogue: Catalogue) -> None:
    for where, what, state in (
        ("U3.ABC", "current", ""),
        ("3V3", "voltage", "x"),
    ):
        design = scenario_edits.note_measured(mended, reading(what, where, value=1, state=state))
        assert "cannot be placed" in prototype_findings(Wired(design, catalogue))[0].title
    for where, what in (("5Vx", "voltage"), ("U99", "current")):
        with pytest.raises(EditError, match="There is no"):
            scenario_edits.note_measured(mended, reading(what, where, 1.0))
        with pytest.raises(InputError, match="There is no"):
            predict(Wired(mended, catalogue), reading(what, where, 1.0))
    assert predict(Wired(mended, catalogue), reading("current", "U3.VDD", value=0)) == pytest.approx(0.095, rel=0.2)


def test_brief_says_what_does_not_fit_the_case(mended: Design, catalogue: Catalogue) -> None:
    assert brief_findings(Wired(mended, catalogue), TODAY) == []
    low = edits.set_brief(mended, case_depth_nm=5_000_000)
    assert any("mm tall" in f.title for f in brief_findings(Wired(low, catalogue), TODAY))
    outside = edits.set_brief(mended, template=(TemplateHole(ref="H1", x_nm=-1, y_nm=0),))
    assert any("outside the board" in f.title for f in brief_findings(Wired(outside, catalogue), TODAY))
    late = edits.set_brief(mended, needed_by="2020-01-01")
    assert any("were needed by" in f.title for f in brief_findings(Wired(late, catalogue), TODAY))


OWN = """[own_chip]
title = "Own chip"
prefix = "U"
packages = ["SOT-23"]
pins = [["1", "VDD", "supply_in"], ["2", "GND", "ground"], ["3", "OUT", "output"]]
model = { type = "load", i_supply = 0.001, supply = "VDD", ground = "GND" }
facts = { v_min = 2.5, v_max = 5.5, pin_max_over_supply = 0.3, keyed = 1, all_call = 112.0 }
"""


@pytest.mark.parametrize(
    ("wrong", "said", "hint"),
    [
        (("i_supply = 0.001", "i_suply = 0.001"), "a load has no “i_suply”", "i_supply"),
        (("i_supply = 0.001, ", ""), "a load needs i_supply", "data sheet"),
        (('type = "load"', 'type = "lode"'), "there is no model “lode”", "load"),
        (("v_min", "supply_min_w"), "there is no fact “supply_min_w”", "supply_min_v"),
        (("2.5", '"2.5"'), "Expected `float", "Mend"),
        (("0.001", "-1.0"), "i_supply = -1.0 cannot be", "from 0"),
        (("title", "titel"), "there is no field “titel”", "title"),
    ],
)
def test_a_misspelt_word_is_refused_with_its_line_and_the_nearest_name(
    catalogue: Catalogue, tmp_path: Path, wrong: tuple[str, str], said: str, hint: str
) -> None:
    path = tmp_path / "own.toml"
    path.write_text(OWN.replace(*wrong), "utf-8")
    with pytest.raises(InputError) as caught:
        read_kinds(path, catalogue)
    assert said in caught.value.message
    assert hint in caught.value.hint
    assert "line" in caught.value.where


def test_former_names_of_facts_are_read_as_todays(catalogue: Catalogue, tmp_path: Path) -> None:
    path = tmp_path / "own.toml"
    path.write_text(OWN, "utf-8")
    facts = read_kinds(path, catalogue)["own_chip"].facts
    assert facts == Facts(supply_min_v=2.5, supply_max_v=5.5, pin_over_supply_max_v=0.3, keyed=True, all_call=112)
    assert set(FORMER_NAMES.values()) <= {f.name for f in msgspec.structs.fields(Facts)}
