"""Rules on straps, analogue inputs, cells, plugs, options and ratings.

Each loud on a small planted mistake, mended or not.
"""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Option, Part, Pin
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import import_prototype

BASE = {"J1": "barrel_jack", "U1": "regulator_3v3", "C1": "ceramic_capacitor 10u", "C2": "ceramic_capacitor 10u"}
BASE_NETS = "5V=J1.TIP U1.IN C1.1; GND=J1.SLEEVE U1.GND C1.2 C2.2; 3V3=U1.OUT C2.1"


def make(catalogue: Catalogue, parts: dict[str, str], nets: str, base: bool = True, supply_v: float = 5.0) -> Design:
    """A design from `ref -> kind value` and `net=pins; ...`, on a 5 V inlet with a 3.3 V regulator."""
    parts = {**(BASE if base else {}), **parts}
    rows = ["ref,kind,value"] + [
        f"{r},{(t + ' ').split(' ', 1)[0]},{(t + ' ').split(' ', 1)[1].strip()}" for r, t in parts.items()
    ]
    wires: dict[str, list[str]] = {}
    for text in ([BASE_NETS] if base else []) + [nets]:
        for piece in filter(None, (p.strip() for p in text.split(";"))):
            net, _, pins = piece.partition("=")
            wires.setdefault(net.strip(), []).extend(pins.split())
    lines = ["net,ref,pin"] + [f"{n},{p.split('.')[0]},{p.split('.')[1]}" for n, pins in wires.items() for p in pins]
    return edits.set_brief(
        import_prototype("\n".join(rows), "\n".join(lines), catalogue), supply_v=supply_v, supply_limit_a=3.0
    )


def hits(design: Design, catalogue: Catalogue, rule: str) -> list[Finding]:
    return [f for f in review(Wired(design, catalogue)) if f.rule == rule]


def mended(design: Design, catalogue: Catalogue, rule: str) -> Design:
    """The design after the first mend of the rule, quiet on that key."""
    finding = hits(design, catalogue, rule)[0]
    after = finding.mend.apply(design)
    assert finding.key not in [f.key for f in hits(after, catalogue, rule)]
    return after


CONTROLLER = "3V3=U2.VDD U2.VDDA; GND=U2.GND U2.GNDA"


def test_address_that_the_bus_keeps(catalogue: Catalogue) -> None:
    """Six straps: 0x40 + 63 = 0x7F; 0x78 to 0x7F are reserved (UM10204)."""
    nets = (
        f"{CONTROLLER}; SDA=U2.SDA U3.SDA; SCL=U2.SCL U3.SCL; GND=U3.GND; "
        "3V3=U3.VDD U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5"
    )
    design = make(catalogue, {"U2": "controller_32", "U3": "servo_driver_16"}, nets)
    finding = hits(design, catalogue, "reserved address")[0]
    assert finding.value == 0x7F
    assert "0x7F (127)" in finding.title
    assert not hits(edits.connect(design, Pin("U3", "24"), "GND"), catalogue, "reserved address")  # 0x5F


def test_all_call_meets_another_device(catalogue: Catalogue) -> None:
    nets = (
        f"{CONTROLLER}; SDA=U2.SDA U3.SDA U4.SDA; SCL=U2.SCL U3.SCL U4.SCL; 3V3=U3.VDD U4.VDD U4.A4 U4.A5;"
        "GND=U3.GND U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5 U4.GND U4.A0 U4.A1 U4.A2 U4.A3"
    )
    design = make(catalogue, {"U2": "controller_32", "U3": "servo_driver_16", "U4": "servo_driver_16"}, nets)
    assert {f.refs for f in hits(design, catalogue, "all-call address")} == {("U3", "U4")}  # 0x40 + 16 + 32 = 0x70
    assert {f.refs[0] for f in hits(design, catalogue, "fixed straps")} == {"U3", "U4"}


def test_boot_strap_levels(catalogue: Catalogue) -> None:
    parts = {"U2": "controller_32", "R1": "resistor 10k", "R2": "resistor 10k"}
    high = make(catalogue, parts, f"{CONTROLLER}; BOOT=U2.BOOT R1.1; 3V3=R1.2")
    assert hits(high, catalogue, "boot strap")[0].severity is Severity.STOP
    low = make(catalogue, parts, f"{CONTROLLER}; BOOT=U2.BOOT R1.1; GND=R1.2")
    assert not hits(low, catalogue, "boot strap")
    none = make(catalogue, {**parts, "TP1": "test_point"}, f"{CONTROLLER}; BOOT=U2.BOOT TP1.1")
    assert mended(none, catalogue, "boot strap").parts["R3"].value == "10k"


def test_reset_without_pull_up(catalogue: Catalogue) -> None:
    design = make(catalogue, {"U2": "controller_32", "SW1": "button"}, f"{CONTROLLER}; NRST=U2.NRST SW1.1; GND=SW1.2")
    assert mended(design, catalogue, "reset network").net_of()[Pin("R1", "1")] == "3V3"


def test_enable_left_open(catalogue: Catalogue) -> None:
    design = make(catalogue, {"Y1": "oscillator"}, "3V3=Y1.VDD; GND=Y1.GND; NC=Y1.EN Y1.OUT")
    assert mended(design, catalogue, "enable left open").net_of()[Pin("Y1", "1")] == "3V3"


@pytest.mark.parametrize(("ohm", "said"), [("24k", ""), ("33k", "selects nothing"), ("6k8", "asks for 9 V")])
def test_negotiation_resistor(catalogue: Catalogue, ohm: str, said: str) -> None:
    parts = {"J1": "usb_c_inlet", "U1": "negotiation_chip", "R1": f"resistor {ohm}"}
    nets = (
        "VBUS=J1.VBUS U1.VDD; GND=J1.GND U1.GND R1.2; CFG=U1.CFG1 R1.1; CC1=J1.CC1 U1.CC1; "
        "CC2=J1.CC2 U1.CC2; NC=U1.CFG2 U1.PG"
    )
    found = hits(make(catalogue, parts, nets, base=False, supply_v=12.0), catalogue, "negotiation")
    assert [said in f.title for f in found] == ([True] if said else [])


def test_divider_past_the_supply_of_the_converter(catalogue: Catalogue) -> None:
    """12 V over 10k and 10k is 6 V; 0.9 x 3.3 V asks for 10k x 2.97 / 9.03 = 3.29k, E24 says 3.3k."""
    parts = {"U2": "controller_32", "R1": "resistor 10k", "R2": "resistor 10k"}
    nets = f"{CONTROLLER}; HALF=R1.2 R2.1 U2.AIN0; 5V=R1.1; GND=R2.2"
    design = make(catalogue, parts, nets, supply_v=12.0)
    finding = hits(design, catalogue, "divider range")[0]
    assert finding.value == pytest.approx(6.0, rel=0.01)
    assert finding.limit == pytest.approx(3.3, rel=0.01)
    assert mended(design, catalogue, "divider range").parts["R2"].value == "3k3"


def test_divider_of_high_impedance_wants_a_capacitor(catalogue: Catalogue) -> None:
    parts = {"U2": "controller_32", "R1": "resistor 100k", "R2": "resistor 100k"}
    design = make(catalogue, parts, f"{CONTROLLER}; HALF=R1.2 R2.1 U2.AIN0; 5V=R1.1; GND=R2.2")
    assert hits(design, catalogue, "source impedance")[0].value == pytest.approx(50e3)
    mended(design, catalogue, "source impedance")


def test_heavy_load_and_converter_share_the_ground(catalogue: Catalogue) -> None:
    parts = {"U2": "controller_32", "R1": "resistor 10k", "R2": "resistor 10k", "J2": "heater_terminal 3"}
    nets = f"{CONTROLLER}; HALF=R1.2 R2.1 U2.AIN0; 5V=R1.1 J2.1; GND=R2.2 J2.2"
    design = make(catalogue, parts, nets, supply_v=12.0)
    assert hits(design, catalogue, "shared ground")[0].value == pytest.approx(12 / 3, rel=0.02)


def test_crystal_capacitors(catalogue: Catalogue) -> None:
    """18 pF of load less 5 pF of stray: two of 26 pF; E12 has 27 pF. Hand-worked."""
    parts = {"U2": "controller_8_dip", "Y1": "crystal"}
    design = make(catalogue, parts, "3V3=U2.VDD; GND=U2.GND; X1=U2.X1 Y1.1; X2=U2.X2 Y1.2")
    one = hits(design, catalogue, "crystal load")[0].mend.apply(design)
    both = hits(one, catalogue, "crystal load")[0].mend.apply(one)
    assert {p.value for p in both.parts.values() if p.value.endswith("p")} == {"27p"}
    assert not hits(both, catalogue, "crystal load")
    wrong = edits.change_part(edits.change_part(both, "C3", value="100p"), "C4", value="100p")
    assert hits(wrong, catalogue, "crystal load")[0].value == pytest.approx(55e-12)


CHARGER = {
    "J1": "usb_c_inlet",
    "U1": "cell_charger",
    "R1": "resistor 2k",
    "BT1": "lithium_cell 3.8 400 mAh",
    "C1": "ceramic_capacitor 10u",
}
CHARGER_NETS = (
    "VBUS=J1.VBUS U1.VCC U1.CE C1.1; GND=J1.GND U1.GND U1.TEMP R1.2 BT1.- C1.2; P=U1.PROG R1.1; CELL=U1.BAT BT1.+"
)


def test_charger_too_fast_for_a_small_cell(catalogue: Catalogue) -> None:
    """Common practice: I = 1000 V / R, so 2k gives 500 mA; 400 mAh at 1 C takes 400 mA; half of it wants 5k."""
    design = make(catalogue, CHARGER, CHARGER_NETS, base=False)
    finding = hits(design, catalogue, "charge rate")[0]
    assert (finding.value, finding.limit) == (pytest.approx(0.5), pytest.approx(0.4))
    assert mended(design, catalogue, "charge rate").parts["R1"].value == "5k"


def test_charger_without_resistor_or_cell(catalogue: Catalogue) -> None:
    design = make(catalogue, CHARGER, CHARGER_NETS, base=False)
    assert "sets its current" in hits(edits.remove_part(design, "R1"), catalogue, "charger")[0].title
    assert "reaches no cell" in hits(edits.remove_part(design, "BT1"), catalogue, "charger")[0].title
    assert not hits(design, catalogue, "charger")


def test_each_configuration_line_has_its_own_resistor(catalogue: Catalogue) -> None:
    joined = make(
        catalogue, {**CHARGER, "R2": "resistor 5k1"}, CHARGER_NETS + "; CC=J1.CC1 J1.CC2 R2.1; GND=R2.2", base=False
    )
    assert {f.key for f in hits(joined, catalogue, "USB-C pull-down")} == {"J1.3", "J1.4"}
    parts = {**CHARGER, "R2": "resistor 5k1", "R3": "resistor 5k1"}
    right = make(catalogue, parts, CHARGER_NETS + "; A=J1.CC1 R2.1; B=J1.CC2 R3.1; GND=R2.2 R3.2", base=False)
    assert not hits(right, catalogue, "USB-C pull-down")
    wrong = edits.change_part(right, "R3", value="56k")
    assert [f.key for f in hits(wrong, catalogue, "USB-C pull-down")] == ["J1.4"]
    bare = edits.connect(edits.remove_part(right, "R3"), Pin("J1", "4"), "B")
    assert mended(bare, catalogue, "USB-C pull-down").parts["R3"].value == "5k1"


def test_usb_inlet_with_too_much_capacitance(catalogue: Catalogue) -> None:
    design = make(
        catalogue,
        {**CHARGER, "C2": "electrolytic_capacitor 220u 16 V"},
        CHARGER_NETS + "; VBUS=C2.1; GND=C2.2",
        base=False,
    )
    assert hits(design, catalogue, "inrush")[0].value == pytest.approx(230e-6)
    assert not hits(edits.remove_part(design, "C2"), catalogue, "inrush")


def test_rail_that_droops(catalogue: Catalogue) -> None:
    """Hand-worked: 33 ohm on 3.3 V is 0.1 A; 10 us of it from 1 uF is 1 V, and 10 mV over 0.1 ohm."""
    parts = {
        "U2": "controller_32",
        "Q1": "nmos_power",
        "R1": "resistor 33",
        "R2": "resistor 10k",
        "C2": "ceramic_capacitor 1u",
    }
    design = make(catalogue, parts, f"{CONTROLLER}; G=U2.P1 Q1.G R2.1; GND=Q1.S R2.2; LOAD=Q1.D R1.2; 3V3=R1.1")
    finding = hits(design, catalogue, "droop")[0]
    assert finding.value == pytest.approx(1.01, rel=0.03)
    assert mended(design, catalogue, "droop").parts["C3"].value.startswith("100u")


def test_two_supplies_on_one_net(catalogue: Catalogue) -> None:
    design = make(catalogue, {"BT1": "lithium_cell 3.8"}, "5V=BT1.+; GND=BT1.-")
    assert hits(design, catalogue, "supplies joined")[0].refs == ("BT1", "J1")


def test_reverse_polarity_and_what_protects_from_it(catalogue: Catalogue) -> None:
    assert hits(make(catalogue, {}, ""), catalogue, "reverse polarity")
    clamp = make(catalogue, {"D1": "tvs_diode"}, "5V=D1.K; GND=D1.A")
    assert not hits(clamp, catalogue, "reverse polarity")
    backwards = make(catalogue, {"D1": "tvs_diode"}, "5V=D1.A; GND=D1.K")
    assert hits(backwards, catalogue, "reverse polarity")


def test_header_that_can_be_turned(catalogue: Catalogue) -> None:
    parts = {"J2": "header_4", "U2": "controller_32"}
    risky = make(catalogue, parts, f"{CONTROLLER}; 5V=J2.1; GND=J2.2; A=J2.3 U2.P1; B=J2.4 U2.P2")
    assert hits(risky, catalogue, "header turned")[0].value == pytest.approx(5.0, rel=0.01)
    same = make(catalogue, parts, f"{CONTROLLER}; 5V=J2.1 J2.4; A=J2.2 U2.P1; B=J2.3 U2.P2")
    assert not hits(same, catalogue, "header turned")


def test_bare_line_to_the_outside(catalogue: Catalogue) -> None:
    parts = {"J2": "terminal_2", "U2": "controller_32"}
    design = make(catalogue, parts, f"{CONTROLLER}; A=J2.1 U2.P1; GND=J2.2")
    assert hits(design, catalogue, "static")[0].refs == ("J2", "U2")
    clamp = make(catalogue, {**parts, "D1": "zener_diode 3.6"}, f"{CONTROLLER}; A=J2.1 U2.P1 D1.K; GND=J2.2 D1.A")
    assert not hits(clamp, catalogue, "static")


def test_selector_between_two_supplies(catalogue: Catalogue) -> None:
    parts = {"SW1": "slide_switch", "U2": "pressure_sensor"}
    design = make(catalogue, parts, "5V=SW1.A; 3V3=SW1.B; V=SW1.COM U2.VDD; GND=U2.GND")
    finding = hits(design, catalogue, "voltage selector")[0]
    assert finding.limit == 3.6


def test_mains_asks_for_a_licensed_person_a_fuse_and_a_snubber(catalogue: Catalogue) -> None:
    parts = {"J2": "mains_terminal_2 230 V", "J3": "mains_terminal_2 230 V motor", "K1": "relay", "Q1": "nmos_power"}
    nets = "L=J2.L K1.COM; LOAD=K1.NO J3.L; N=J2.N J3.N; 5V=K1.COIL1; COIL=K1.COIL2 Q1.D; GND=Q1.S; NC=K1.NC"
    design = make(catalogue, parts, nets)
    assert "licensed" in hits(design, catalogue, "mains")[0].detail
    assert {f.key for f in hits(design, catalogue, "mains fuse")} == {"J2", "J3"}
    assert "100 nF" in hits(design, catalogue, "contact suppression")[0].detail  # 1 A squared over 10, in uF
    assert hits(design, catalogue, "coil suppression")[0].refs == ("K1",)
    after = mended(design, catalogue, "coil suppression")
    assert after.net_of()[Pin("D1", "1")] == "5V"  # the cathode
    low = edits.change_part(edits.change_part(design, "J2", value="24 V"), "J3", value="24 V")
    assert not hits(low, catalogue, "mains")


def test_variant_that_leaves_an_input_floating(catalogue: Catalogue) -> None:
    parts = {"U2": "controller_32", "R1": "resistor 10k"}
    design = make(catalogue, parts, f"{CONTROLLER}; EN=U2.NRST R1.1; 3V3=R1.2")
    design = edits.change_part(edits.set_brief(design), "R1", variants=("full",))
    from msgspec.structs import replace

    design = replace(design, variants=("full", "small"))
    assert [f.key for f in hits(design, catalogue, "option floats")] == ["EN small"]


def test_option_fitted_in_part_or_without_its_need(catalogue: Catalogue) -> None:
    from msgspec.structs import replace

    design = make(
        catalogue,
        {"R1": "resistor 1k", "R2": "resistor 1k", "R3": "resistor 1k"},
        "5V=R1.1 R2.1 R3.1; GND=R1.2 R2.2 R3.2",
    )
    options = (
        Option(name="lamp", refs=("R1", "R2"), needs=("base",), switch="LAMP=1"),
        Option(name="base", refs=("R3",)),
    )
    design = replace(design, variants=("full", "small"), options=options)
    assert not hits(design, catalogue, "option")
    half = edits.change_part(design, "R1", variants=("full",))
    assert "without R1" in hits(half, catalogue, "option")[0].title
    missing = edits.change_part(design, "R3", variants=("full",))
    assert "needs base" in hits(missing, catalogue, "option")[0].title


def test_part_that_must_be_exact(catalogue: Catalogue) -> None:
    design = make(catalogue, {"U2": "radio_module"}, "3V3=U2.VDD; GND=U2.GND")
    assert hits(design, catalogue, "exact version")
    assert not hits(edits.change_part(design, "U2", notes="blue board, rev 3"), catalogue, "exact version")


def test_transistor_past_its_ratings(catalogue: Catalogue) -> None:
    """Hand-worked: 5 V over 4 ohm is more than an ampere; the small kind takes 0.5 A."""
    parts = {"U2": "controller_32", "Q1": "nmos_small", "J2": "heater_terminal 4", "R2": "resistor 10k"}
    design = make(catalogue, parts, f"{CONTROLLER}; G=U2.P1 Q1.G R2.1; GND=Q1.S R2.2; LOAD=Q1.D J2.2; 5V=J2.1")
    assert hits(design, catalogue, "transistor rating")[0].value == pytest.approx(5 / 4.25, rel=0.1)
    assert hits(edits.set_brief(design, supply_v=40.0), catalogue, "transistor rating")[0].unit in "AV"


def test_gate_that_never_gets_enough(catalogue: Catalogue) -> None:
    parts = {
        "U2": "controller_32",
        "Q1": "nmos_power",
        "J2": "heater_terminal 20",
        "R1": "resistor 10k",
        "R2": "resistor 10k",
    }
    nets = f"{CONTROLLER}; P=U2.P1 R1.1; G=R1.2 Q1.G R2.1; GND=Q1.S R2.2; LOAD=Q1.D J2.2; 5V=J2.1"
    assert hits(make(catalogue, parts, nets), catalogue, "gate drive")[0].value == pytest.approx(3.3 / 2, rel=0.03)


def test_surroundings_too_hot_for_an_electrolytic(catalogue: Catalogue) -> None:
    design = make(catalogue, {"C3": "electrolytic_capacitor 100u 16 V"}, "5V=C3.1; GND=C3.2")
    assert not hits(design, catalogue, "ambient")
    assert hits(edits.set_brief(design, ambient_c=80.0), catalogue, "ambient")[0].limit == 75.0


def test_blue_led_that_hardly_lights(catalogue: Catalogue) -> None:
    design = make(catalogue, {"R1": "resistor 4k7", "D1": "led blue"}, "3V3=R1.1; A=R1.2 D1.A; GND=D1.K")
    assert hits(design, catalogue, "LED dim")[0].unit == "A"
    assert not hits(edits.change_part(design, "D1", value="red"), catalogue, "LED dim")


def test_open_drain_output_without_a_pull_up(catalogue: Catalogue) -> None:
    parts = {"U2": "controller_32", "U3": "comparator_dual", "R1": "resistor 10k"}
    bare = make(catalogue, parts, f"{CONTROLLER}; 3V3=U3.VDD; GND=U3.GND; OUT=U3.OUT1 U2.P1")
    assert hits(bare, catalogue, "open drain")
    lifted = make(catalogue, parts, f"{CONTROLLER}; 3V3=U3.VDD R1.1; GND=U3.GND; OUT=U3.OUT1 U2.P1 R1.2")
    assert not hits(lifted, catalogue, "open drain")


def test_pin_that_is_to_stay_open(catalogue: Catalogue) -> None:
    design = make(catalogue, {"U3": "humidity_sensor"}, "3V3=U3.VDD; GND=U3.GND U3.NC")
    assert hits(design, catalogue, "no-connect wired")[0].refs == ("U3",)


def test_outputs_of_selected_devices_take_turns(catalogue: Catalogue) -> None:
    parts = {"U2": "controller_32", "U3": "radio_module", "U4": "radio_module"}
    nets = (
        f"{CONTROLLER}; 3V3=U3.VDD U4.VDD; GND=U3.GND U4.GND; MISO=U3.MISO U4.MISO U2.P1; A=U3.CS U2.P2; B=U4.CS U2.P3"
    )
    assert not hits(make(catalogue, parts, nets), catalogue, "contention")


def test_dropout_is_judged_on_the_nearly_empty_cell(catalogue: Catalogue) -> None:
    parts = {
        "BT1": "lithium_cell 3.8",
        "U1": "regulator_3v3",
        "C1": "ceramic_capacitor 10u",
        "C2": "ceramic_capacitor 10u",
        "U2": "controller_32",
    }
    nets = "CELL=BT1.+ U1.IN C1.1; GND=BT1.- U1.GND C1.2 C2.2; 3V3=U1.OUT C2.1;" + CONTROLLER
    design = make(catalogue, parts, nets, base=False)
    assert not hits(design, catalogue, "dropout")
    heavy = make(catalogue, {**parts, "R1": "resistor 10"}, nets + "; 3V3=R1.1; GND=R1.2", base=False)
    assert "cell nearly empty" in hits(heavy, catalogue, "dropout")[0].title


def test_cell_without_a_fuse_is_said(catalogue: Catalogue) -> None:
    design = make(catalogue, CHARGER, CHARGER_NETS, base=False)
    assert "BT1" in {f.key for f in hits(design, catalogue, "fuse")}


@pytest.mark.parametrize("share", range(4))
def test_no_rule_breaks_on_a_part_alone(share: int, catalogue: Catalogue) -> None:
    """Each kind, wired to nothing: every judge returns, and speaks of that part only."""
    for kind in list(catalogue.kinds)[share::4]:
        design = edits.add_part(Design(), Part(ref="X1", kind=kind))
        for finding in review(Wired(design, catalogue)):
            assert set(finding.refs) <= {"X1"}, (kind, finding.rule)


@pytest.mark.campaign
def test_no_rule_breaks_when_a_part_is_taken_away(demo: Design, catalogue: Catalogue) -> None:
    """The demo without every other of its parts: every judge returns, and none speaks of what is gone."""
    for ref in list(demo.parts)[::2]:
        design = edits.remove_part(demo, ref)
        for finding in review(Wired(design, catalogue)):
            assert set(finding.refs) <= set(design.parts), (ref, finding.rule)
            assert set(finding.nets) <= set(design.nets), (ref, finding.rule)


def test_a_finding_names_no_net_where_a_pin_is_on_none(catalogue: Catalogue) -> None:
    """A switch driven to 2 V whose drain is open: the gate is spoken of, the empty name is not."""
    parts = {"Q1": "nmos_power", "R1": "resistor 15k", "R2": "resistor 10k"}
    design = make(catalogue, parts, "5V=R1.1; G=R1.2 R2.1 Q1.G; GND=R2.2 Q1.S")
    assert [f.nets for f in hits(design, catalogue, "gate drive")] == [("G",)]
