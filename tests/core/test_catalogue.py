"""The catalogue: shipped kinds are sound; the user's own are validated with file and entry."""

from __future__ import annotations

from pathlib import Path

import pytest

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Catalogue, kinds_of, shipped, with_user_parts
from zesty_trace.core.circuit.build import build_network, elements_of, forward_voltage, junction_values
from zesty_trace.core.circuit.devices import THERMAL_V, junction
from zesty_trace.core.circuit.solver import solve
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.errors import InputError

OWN = """
[light_sensor]
title = "Light sensor, I2C"
prefix = "U"
packages = ["SOIC-8"]
pins = [["1", "SDA", "open_drain"], ["2", "SCL", "input"], ["3", "VDD", "supply_in"], ["4", "GND", "ground"]]
model = { type = "load", i_supply = 0.001, supply = "VDD", ground = "GND" }
bus = { sda = "SDA", scl = "SCL", role = "device", address = 0x76 }
"""


def test_every_kind_has_a_model_that_the_circuit_knows(catalogue: Catalogue) -> None:
    carries_none = (m.Capacitor, m.Open)
    default = elements_of.dispatch(m.Model)
    ways = {type(k.model): elements_of.dispatch(type(k.model)) for k in catalogue.kinds.values()}
    assert {shape for shape, way in ways.items() if way is default} == set(carries_none)
    assert len(ways) == len(m.MODELS)


def test_every_kind_builds_into_a_circuit_that_settles(catalogue: Catalogue) -> None:
    """Each kind alone, supply pins on 3.3 V or 12 V, all else on a resistor to ground."""
    for kind in catalogue.kinds.values():
        value = {"Ω": "1k", "F": "100n", "A": "10m", "H": "10u"}.get(kind.unit, next(iter(kind.options), ""))
        design = edits.add_part(Design(), Part(ref="X1", kind=kind.id, value=value, package=kind.packages[0]))
        design = edits.add_part(design, Part(ref="J1", kind="barrel_jack", package="BarrelJack"))
        design = edits.connect(edits.connect(design, Pin("J1", "1"), "IN"), Pin("J1", "2"), "GND")
        for pin in kind.pins:
            net = {"supply_in": "IN", "ground": "GND"}.get(pin.role, f"N{pin.number}")
            design = edits.connect(design, Pin("X1", pin.number), net)
        solution = solve(build_network(Wired(design, catalogue)))
        assert solution.residual_a < 1e-9, kind.id


def test_pins_are_found_by_number_first_then_by_name(catalogue: Catalogue) -> None:
    controller = catalogue.kind("controller_32")
    assert controller.pin("8").name == "VDD"
    assert controller.pin("sda").number == "26"
    assert controller.pin("none") is None
    header = catalogue.kind("serial_header")
    assert header.pin("2").name == "3V3"
    with pytest.raises(KeyError):
        header.pin_named("CTS")


@pytest.mark.parametrize(("colour", "vf"), [("red", 1.9), ("yellow", 2.1), ("green", 2.2), ("blue", 3.1)])
def test_led_drops_its_typical_voltage_at_rated_current(catalogue: Catalogue, colour: str, vf: float) -> None:
    """Typical forward voltages by colour are common practice; the fit must pass through them at 20 mA."""
    kind = catalogue.kind("led")
    part = Part(ref="D1", kind="led", value=f"{colour} 2 mcd")
    assert forward_voltage(part, kind) == vf
    values = junction_values(vf, 0.02, 2.0)
    current, _ = junction(vf, values["i_s"], values["n"] * THERMAL_V)
    assert float(current) == pytest.approx(0.02, rel=1e-9)


def test_junction_stays_finite_far_beyond_its_rating() -> None:
    current, slope = junction(50.0, 1e-14, THERMAL_V)
    assert 0 < current < float("inf")
    assert 0 < slope < float("inf")


def test_own_parts_join_the_shipped_ones(tmp_path: Path) -> None:
    (tmp_path / "parts").mkdir()
    (tmp_path / "parts" / "mine.toml").write_text(OWN)
    both = with_user_parts(shipped(), (tmp_path, "parts"))
    assert both.kind("light_sensor").bus.address == 0x76
    assert len(both.kinds) == len(shipped().kinds) + 1
    assert with_user_parts(shipped(), (tmp_path, "nowhere")).kinds == shipped().kinds


@pytest.mark.parametrize(
    ("change", "where", "words"),
    [
        pytest.param(("open_drain", "open_drian"), "mine.toml line 6, [light_sensor]", "unknown role", id="role"),
        pytest.param(('["2", "SCL"', '["1", "SCL"'), "mine.toml line 6, [light_sensor]", "twice", id="pin twice"),
        pytest.param(("SOIC-8", "SOIC-9"), "mine.toml line 5, [light_sensor]", "unknown package", id="package"),
        pytest.param(('prefix = "U"', ""), "mine.toml line 2, [light_sensor]", "prefix", id="missing field"),
        pytest.param(("pins = [", "pins = ["[:-1]), "mine.toml", "TOML", id="not TOML"),
    ],
)
def test_damaged_own_parts_say_where(tmp_path: Path, change: tuple[str, str], where: str, words: str) -> None:
    (tmp_path / "parts").mkdir()
    (tmp_path / "parts" / "mine.toml").write_text(OWN.replace(*change))
    with pytest.raises(InputError, match=words) as caught:
        with_user_parts(shipped(), (tmp_path, "parts"))
    assert caught.value.where.startswith(where)


def test_unknown_names_suggest_near_ones(catalogue: Catalogue) -> None:
    with pytest.raises(InputError, match="Did you mean resistor"):
        catalogue.kind("resitor")
    with pytest.raises(InputError, match="Did you mean SOIC-8"):
        catalogue.package("SOIC8")


def test_a_family_is_one_entry_with_its_members(catalogue: Catalogue) -> None:
    assert [len(catalogue.kinds[f"header_{n}"].pins) for n in (1, 7, 20)] == [1, 7, 20]
    assert catalogue.kinds["regulator_1v8"].model.output_v == 1.8
    assert catalogue.kinds["relay_24v"].facts.coil_v == 24
    assert catalogue.kinds["tvs_diode_5v"].title == "Surge clamp, 5 V"
    assert len(catalogue.kinds) > 150


def test_a_family_of_ones_own_is_read_and_its_mistakes_are_told(catalogue: Catalogue) -> None:
    text = """
["lamp_{colour}"]
title = "Lamp, {colour}"
prefix = "D"
packages = ["LED0805"]
pins = [["1", "K", "passive"], ["2", "A", "passive"]]
model = { type = "led", vf = "{volt}", if = 0.02 }
members = [{ colour = "amber", volt = 2.0 }, { colour = "violet", volt = 3.2 }]
"""
    found = kinds_of(text.encode(), "own.toml", catalogue)
    assert {k: v.model.forward_v for k, v in found.items()} == {"lamp_amber": 2.0, "lamp_violet": 3.2}
    with pytest.raises(InputError, match="lamp_amber"):
        kinds_of(text.replace("if = 0.02", "iff = 0.02").encode(), "own.toml", catalogue)
