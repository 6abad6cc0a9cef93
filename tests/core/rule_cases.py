"""For each rule of the schematic a small circuit on which it must speak, and one, changed by a hair, where it must not.

A circuit is `ref kind value, …` and `net=pins; …`. Unless it is bare, it stands beside a 5 V inlet J1,
a 3.3 V regulator U1 and their capacitors C1 and C2."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Option
from zesty_trace.core.tables.importing import import_prototype

BASE = "J1 barrel_jack, U1 regulator_3v3, C1 ceramic_capacitor 10u, C2 ceramic_capacitor 10u"
BASE_NETS = "5V=J1.TIP U1.IN C1.1; GND=J1.SLEEVE U1.GND C1.2 C2.2; 3V3=U1.OUT C2.1"
MCU, MCU_NETS = "U2 controller_32", "3V3=U2.VDD U2.VDDA; GND=U2.GND U2.GNDA"
CHARGE = "J1 usb_c_inlet, U1 cell_charger, R1 resistor {}, BT1 lithium_cell 3.8 400 mAh, C1 ceramic_capacitor 10u"
CHARGE_NETS = (
    "VBUS=J1.VBUS U1.VCC U1.CE C1.1; GND=J1.GND U1.GND U1.TEMP R1.2 BT1.- C1.2; P=U1.PROG R1.1; CELL=U1.BAT BT1.+"
)


@dataclass(frozen=True)
class Circuit:
    """Parts, nets, whether they stand alone, and what the brief says."""

    parts: str
    nets: str
    bare: bool = False
    supply_v: float = 5.0
    supply_limit_a: float = 3.0
    ambient_c: float = 25.0
    drop: tuple[str, ...] = ()  # parts of the base that are left out
    options: tuple[Option, ...] = ()
    only: dict[str, str] | None = None  # ref -> the only variant that it is fitted in

    def build(self, catalogue: Catalogue) -> Design:
        """Return the design."""
        parts = ", ".join(filter(None, ("" if self.bare else BASE, self.parts)))
        nets = "; ".join(filter(None, ("" if self.bare else BASE_NETS, self.nets)))
        rows, wires = ["ref,kind,value"], ["net,ref,pin"]
        for words in (p.split() for p in parts.split(", ")):
            if words[0] not in self.drop:
                rows.append(f"{words[0]},{words[1]},{' '.join(words[2:])}")
        for piece in filter(None, map(str.strip, nets.split(";"))):
            net, _, pins = piece.partition("=")
            wires += [f"{net},{p.replace('.', ',', 1)}" for p in pins.split() if p.split(".")[0] not in self.drop]
        design = import_prototype("\n".join(rows), "\n".join(wires), catalogue)
        if self.only is not None:
            design = replace(design, variants=("full", "small"), options=self.options)
            for ref, variant in self.only.items():
                design = edits.change_part(design, ref, variants=(variant,))
        brief: dict[str, Any] = {"supply_v": self.supply_v, "supply_limit_a": self.supply_limit_a}
        return edits.set_brief(design, ambient_c=self.ambient_c, **brief)


def with_mcu(parts: str, nets: str, **more: Any) -> Circuit:
    """Return a circuit with a controller on 3.3 V."""
    return Circuit(", ".join(filter(None, (MCU, parts))), f"{MCU_NETS}; {nets}", **more)


def charger(ohm: str, **more: Any) -> Circuit:
    """Return a charger for a cell of 400 mAh."""
    return Circuit(CHARGE.format(ohm), CHARGE_NETS + more.pop("nets", ""), bare=True, **more)


def straps(high: str, low: str, more: str = "") -> Circuit:
    """Return a driver on the bus with some of its six address straps high."""
    nets = f"SDA=U2.SDA U3.SDA; SCL=U2.SCL U3.SCL; 3V3=U3.VDD {high}; GND=U3.GND {low}; {more}"
    return with_mcu("U3 servo_driver_16" + (", U4 servo_driver_16" if more else ""), nets)


def coil(more_parts: str, more_nets: str, **more: Any) -> Circuit:
    """Return a relay coil on 5 V that a transistor switches."""
    parts = "K1 relay, Q1 nmos_power, R1 resistor 10k" + more_parts
    return with_mcu(parts, f"5V=K1.COIL1; COIL=K1.COIL2 Q1.D; GND=Q1.S R1.2; G=U2.P1 Q1.G R1.1; {more_nets}", **more)


def led(ohm: str, colour: str = "red", supply: str = "3V3") -> Circuit:
    """Return an LED behind a resistor, straight from a supply."""
    return Circuit(f"R1 resistor {ohm}, D1 led {colour}", f"{supply}=R1.1; A=R1.2 D1.A; GND=D1.K")


def lit(ohm: str) -> Circuit:
    """Return an LED on a controller's pin."""
    return with_mcu(f"R1 resistor {ohm}, D1 led red", "X=U2.P1 R1.1; A=R1.2 D1.A; GND=D1.K")


def switched(kind: str, load: str, **more: Any) -> Circuit:
    """Return a load that a transistor switches from a controller's pin."""
    parts = f"Q1 {kind}, J2 heater_terminal {load}, R2 resistor 10k"
    return with_mcu(parts, "G=U2.P1 Q1.G R2.1; GND=Q1.S R2.2; LOAD=Q1.D J2.2; 5V=J2.1", **more)


def lifted_gate(ohm: str) -> Circuit:
    """Return a gate and a buffer on one pin, which a resistor to the supply lifts."""
    nets = "X=U2.P1 Q1.G U4.A1 R1.2; 3V3=U4.VDD R1.1; GND=U4.GND Q1.S; LOAD=Q1.D J2.2; 5V=J2.1"
    return with_mcu(f"Q1 nmos_power, J2 heater_terminal 20, U4 line_buffer_4, R1 resistor {ohm}", nets)


def mains(volts: str, fuse: bool) -> Circuit:
    """Return a contact that switches an outside load."""
    parts = (
        f"J2 mains_terminal_2 {volts}, J3 mains_terminal_2 {volts} motor, K1 relay, Q1 nmos_power, D1 rectifier_diode"
    )
    line = "N=J2.N F1.1; NF=F1.2 J3.N" if fuse else "N=J2.N J3.N"
    nets = f"{line}; L=J2.L K1.COM; LOAD=K1.NO J3.L; 5V=K1.COIL1 D1.K; COIL=K1.COIL2 Q1.D D1.A; GND=Q1.S"
    return Circuit(parts + (", F1 fuse 1 A" if fuse else ""), nets)


def sensor(nets: str, parts: str = "") -> Circuit:
    """Return a pressure sensor on the bus of a controller."""
    return with_mcu(f"U3 pressure_sensor{parts}", f"SDA=U2.SDA U3.SDA; SCL=U2.SCL U3.SCL; GND=U3.GND; {nets}")


PULLS = ", R1 resistor {0}, R2 resistor {0}"
PULLED = "3V3=U3.VDD U3.CS R1.1 R2.1; SDA=R1.2; SCL=R2.2; GND=U3.ADR"
TWO = "R1 resistor {}, R2 resistor {}"
HALF = "HALF=R1.2 R2.1 U2.AIN0; 5V=R1.1; GND=R2.2"
LAMP = (Option(name="lamp", refs=("R1", "R2")),)
PLAIN = Circuit("R1 resistor 1k, R2 resistor 1k", "5V=R1.1 R2.1; GND=R1.2 R2.2")
TURN = "U3 {0}, U4 {0}"

RELAY = "5V=K1.COIL1 D1.K; COIL=K1.COIL2 Q1.D D1.A; GND=Q1.S R1.2; G=U2.P1 Q1.G R1.1"
LAMP_ON = "3V3=U3.VDD U3.NCLR; GND=U3.GND D1.K; Q=U3.Q1 R1.1; A=R1.2 D1.A"

CASES: dict[str, tuple[Circuit, Circuit]] = {
    "coil voltage": (
        with_mcu("K1 relay_12v, Q1 nmos_small, R1 resistor 10k, D1 signal_diode", RELAY, supply_v=5.0),
        with_mcu("K1 relay_12v, Q1 nmos_small, R1 resistor 10k, D1 signal_diode", RELAY, supply_v=12.0),
    ),
    "disabled for good": (
        with_mcu("U3 shift_register_8, R1 resistor 330, D1 led red", f"{LAMP_ON}; 3V3=U3.NOE"),
        with_mcu("U3 shift_register_8, R1 resistor 330, D1 led red", f"{LAMP_ON}; GND=U3.NOE"),
    ),
    "feedback": (
        with_mcu("U3 op_amp_dual", "3V3=U3.VDD; GND=U3.GND; O=U3.OUT1 U3.IN1+; S=U3.IN1- U2.P1"),
        with_mcu("U3 op_amp_dual", "3V3=U3.VDD; GND=U3.GND; O=U3.OUT1 U3.IN1-; S=U3.IN1+ U2.P1"),
    ),
    "never lit": (
        with_mcu("R1 resistor 330, D1 led red", "X=U2.P1 R1.1; A=R1.2 D1.A; 3V3=D1.K"),
        lit("330"),
    ),
    "pair joined": (
        with_mcu("RV1 potentiometer 10k", "3V3=RV1.1 RV1.3; W=RV1.W U2.AIN0"),
        with_mcu("RV1 potentiometer 10k", "3V3=RV1.1; GND=RV1.3; W=RV1.W U2.AIN0"),
    ),
    "power pins": (
        with_mcu("U3 eeprom_i2c", "3V3=U3.GND; GND=U3.VDD"),
        with_mcu("U3 eeprom_i2c", "3V3=U3.VDD; GND=U3.GND"),
    ),
    "switches nothing": (
        with_mcu("Q1 nmos_power, D1 signal_diode", "G=U2.P1 Q1.G; GND=Q1.S; LOAD=Q1.D D1.A; 5V=D1.K"),
        switched("nmos_power", "20"),
    ),
    "upside down": (
        with_mcu("Q1 nmos_power, J2 heater_terminal 20", "G=U2.P1 Q1.G; GND=Q1.D; LOAD=Q1.S J2.2; 5V=J2.1"),
        switched("nmos_power", "20"),
    ),
    "base resistor": (
        with_mcu("Q1 npn, J2 heater_terminal 100", "B=U2.P1 Q1.B; GND=Q1.E; LOAD=Q1.C J2.2; 5V=J2.1"),
        with_mcu(
            "Q1 npn, J2 heater_terminal 100, R1 resistor 1k",
            "P=U2.P1 R1.1; B=R1.2 Q1.B; GND=Q1.E; LOAD=Q1.C J2.2; 5V=J2.1",
        ),
    ),
    "both ends on one net": (
        Circuit("R1 resistor 1k", "5V=R1.1 R1.2"),
        Circuit("R1 resistor 1k", "5V=R1.1; GND=R1.2"),
    ),
    "clamp voltage": (
        Circuit("D1 tvs_diode", "5V=D1.K; GND=D1.A", supply_v=24.0),
        Circuit("D1 tvs_diode", "5V=D1.K; GND=D1.A", supply_v=12.0),
    ),
    "crossed lines": (
        with_mcu("U3 eeprom_i2c", "3V3=U3.VDD; GND=U3.GND; A=U2.SDA U3.SCL; B=U2.SCL U3.SDA"),
        with_mcu("U3 eeprom_i2c", "3V3=U3.VDD; GND=U3.GND; A=U2.SDA U3.SDA; B=U2.SCL U3.SCL"),
    ),
    "crystal pins": (
        Circuit("U2 controller_8_dip, Y1 crystal", "3V3=U2.VDD; GND=U2.GND; X1=U2.X1 Y1.1; X2=U2.P1 Y1.2"),
        Circuit("U2 controller_8_dip, Y1 crystal", "3V3=U2.VDD; GND=U2.GND; X1=U2.X1 Y1.1; X2=U2.X2 Y1.2"),
    ),
    "fuse rating": (
        Circuit("F1 polyfuse 500m, R1 resistor 5", "5V=F1.1; A=F1.2 R1.1; GND=R1.2"),
        Circuit("F1 polyfuse 2, R1 resistor 5", "5V=F1.1; A=F1.2 R1.1; GND=R1.2"),
    ),
    "input current": (
        with_mcu("U3 opto_isolator", "5V=U3.A; GND=U3.K"),
        with_mcu("U3 opto_isolator, R1 resistor 330", "5V=R1.1; A=R1.2 U3.A; GND=U3.K"),
    ),
    "never off": (
        with_mcu(
            "Q1 pmos_power, J2 heater_terminal 100", "5V=Q1.S; G=U2.P1 Q1.G; LOAD=Q1.D J2.1; GND=J2.2", supply_v=12.0
        ),
        with_mcu("Q1 pmos_power, J2 heater_terminal 100", "3V3=Q1.S; G=U2.P1 Q1.G; LOAD=Q1.D J2.1; GND=J2.2"),
    ),
    "reversed": (
        Circuit("R1 resistor 330, D1 led red", "3V3=R1.1; A=R1.2 D1.K; GND=D1.A"),
        led("330"),
    ),
    "signal on a supply": (
        with_mcu("U3 shift_register_8", "3V3=U3.VDD U3.Q1; GND=U3.GND"),
        with_mcu("U3 shift_register_8", "3V3=U3.VDD; GND=U3.GND; X=U3.Q1"),
    ),
    "all-call address": (
        straps(
            "",
            "U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5",
            "SDA=U4.SDA; SCL=U4.SCL; 3V3=U4.VDD U4.A4 U4.A5; GND=U4.GND U4.A0 U4.A1 U4.A2 U4.A3",
        ),
        straps(
            "",
            "U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5",
            "SDA=U4.SDA; SCL=U4.SCL; 3V3=U4.VDD U4.A0; GND=U4.GND U4.A1 U4.A2 U4.A3 U4.A4 U4.A5",
        ),
    ),
    "ambient": (
        Circuit("C3 electrolytic_capacitor 100u 16 V", "5V=C3.1; GND=C3.2", ambient_c=80.0),
        Circuit("C3 electrolytic_capacitor 100u 16 V", "5V=C3.1; GND=C3.2", ambient_c=40.0),
    ),
    "boot strap": (
        with_mcu("R1 resistor 10k", "BOOT=U2.BOOT R1.1; 3V3=R1.2"),
        with_mcu("R1 resistor 10k", "BOOT=U2.BOOT R1.1; GND=R1.2"),
    ),
    "bus address": (
        sensor(
            "3V3=U3.VDD U3.CS U4.VDD U4.CS; GND=U3.ADR U4.ADR U4.GND; SDA=U4.SDA; SCL=U4.SCL", ", U4 pressure_sensor"
        ),
        sensor(
            "3V3=U3.VDD U3.CS U4.VDD U4.CS U4.ADR; GND=U3.ADR U4.GND; SDA=U4.SDA; SCL=U4.SCL", ", U4 pressure_sensor"
        ),
    ),
    "capacitor rating": (
        Circuit("C3 ceramic_capacitor 1u 4 V", "5V=C3.1; GND=C3.2"),
        Circuit("C3 ceramic_capacitor 1u 16 V", "5V=C3.1; GND=C3.2"),
    ),
    "charge rate": (charger("2k"), charger("5k")),
    "charger": (charger("2k", drop=("R1",)), charger("2k")),
    "coil suppression": (coil("", ""), coil(", D1 rectifier_diode", "5V=D1.K; COIL=D1.A")),
    "contact rating": (
        coil(", J2 heater_terminal 0.5", "5V=K1.COM; SW=K1.NC J2.1; GND=J2.2", supply_v=12.0),
        coil(", J2 heater_terminal 10", "5V=K1.COM; SW=K1.NC J2.1; GND=J2.2"),
    ),
    "contact suppression": (
        coil(", J2 mains_terminal_2 24 V motor", "X=K1.COM; SW=K1.NO J2.L; Y=J2.N"),
        coil(", J2 mains_terminal_2 24 V lamp", "X=K1.COM; SW=K1.NO J2.L; Y=J2.N"),
    ),
    "contention": (
        with_mcu(TURN.format("logic_output_5v"), "5V=U3.VCC U4.VCC; GND=U3.GND U4.GND; OUT=U3.OUT U4.OUT"),
        with_mcu(
            TURN.format("radio_module"),
            "3V3=U3.VDD U4.VDD; GND=U3.GND U4.GND; MISO=U3.MISO U4.MISO U2.P1; A=U3.CS U2.P2; B=U4.CS U2.P3",
        ),
    ),
    "crystal load": (
        Circuit("U2 controller_8_dip, Y1 crystal", "3V3=U2.VDD; GND=U2.GND; X1=U2.X1 Y1.1; X2=U2.X2 Y1.2"),
        Circuit(
            "U2 controller_8_dip, Y1 crystal, C3 ceramic_capacitor 27p, C4 ceramic_capacitor 27p",
            "3V3=U2.VDD; GND=U2.GND C3.2 C4.2; X1=U2.X1 Y1.1 C3.1; X2=U2.X2 Y1.2 C4.1",
        ),
    ),
    "decoupling": (
        Circuit("", "", drop=("C2",)),
        Circuit("C3 ceramic_capacitor 100u", "5V=C3.1; GND=C3.2"),
    ),
    "divider range": (
        with_mcu(TWO.format("10k", "10k"), HALF, supply_v=12.0),
        with_mcu(TWO.format("10k", "3k3"), HALF),
    ),
    "droop": (
        with_mcu(
            "Q1 nmos_power, R1 resistor 33, R2 resistor 10k, C3 ceramic_capacitor 1u",
            "G=U2.P1 Q1.G R2.1; GND=Q1.S R2.2 C3.2; LOAD=Q1.D R1.2; 3V3=R1.1 C3.1",
            drop=("C2",),
        ),
        with_mcu(
            "Q1 nmos_power, R1 resistor 33, R2 resistor 10k, C3 ceramic_capacitor 100u",
            "G=U2.P1 Q1.G R2.1; GND=Q1.S R2.2 C3.2; LOAD=Q1.D R1.2; 3V3=R1.1 C3.1",
        ),
    ),
    "dropout": (
        Circuit("R1 resistor 10", "3V3=R1.1; GND=R1.2", supply_v=3.4),
        Circuit("R1 resistor 10", "3V3=R1.1; GND=R1.2", supply_v=5.0),
    ),
    "enable left open": (
        Circuit("Y1 oscillator", "3V3=Y1.VDD; GND=Y1.GND; NC=Y1.OUT Y1.EN"),
        Circuit("Y1 oscillator", "3V3=Y1.VDD Y1.EN; GND=Y1.GND; CLK=Y1.OUT"),
    ),
    "exact version": (
        Circuit("U2 radio_module", "3V3=U2.VDD; GND=U2.GND"),
        Circuit("U2 radio_module blue board rev 3", "3V3=U2.VDD; GND=U2.GND"),
    ),
    "fixed straps": (
        straps(
            "",
            "U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5",
            "SDA=U4.SDA; SCL=U4.SCL; 3V3=U4.VDD U4.A4 U4.A5; GND=U4.GND U4.A0 U4.A1 U4.A2 U4.A3",
        ),
        straps("", "U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5"),
    ),
    "floating input": (
        with_mcu(TURN.format("humidity_sensor"), "3V3=U3.VDD U4.VDD; GND=U3.GND U4.GND; LOOSE=U3.NRST U4.NRST"),
        with_mcu(
            TURN.format("humidity_sensor") + ", R1 resistor 10k",
            "3V3=U3.VDD U4.VDD R1.1; GND=U3.GND U4.GND; LOOSE=U3.NRST U4.NRST R1.2",
        ),
    ),
    "fuse": (
        Circuit("", ""),
        Circuit(BASE + ", F1 polyfuse 500 mA", BASE_NETS.replace("5V=J1.TIP", "IN=J1.TIP F1.1; 5V=F1.2"), bare=True),
    ),
    "gate drive": (
        with_mcu(
            "Q1 nmos_power, J2 heater_terminal 20, R1 resistor 10k, R2 resistor 10k",
            "P=U2.P1 R1.1; G=R1.2 Q1.G R2.1; GND=Q1.S R2.2; LOAD=Q1.D J2.2; 5V=J2.1",
        ),
        with_mcu(
            "Q1 nmos_power, J2 heater_terminal 20, R1 resistor 100, R2 resistor 10k",
            "P=U2.P1 R1.1; G=R1.2 Q1.G R2.1; GND=Q1.S R2.2; LOAD=Q1.D J2.2; 5V=J2.1",
        ),
    ),
    "gate pull-down": (
        with_mcu("Q1 nmos_power, J2 heater_terminal 20", "G=U2.P1 Q1.G; GND=Q1.S; LOAD=Q1.D J2.2; 5V=J2.1"),
        switched("nmos_power", "20"),
    ),
    "ground": (Circuit("R1 resistor 1k", "A=R1.1; B=R1.2", bare=True), PLAIN),
    "header turned": (
        with_mcu("J2 header_4", "5V=J2.1; GND=J2.2; A=J2.3 U2.P1; B=J2.4 U2.P2"),
        with_mcu("J2 header_4", "5V=J2.1 J2.4; A=J2.2 U2.P1; B=J2.3 U2.P2"),
    ),
    "heat": (
        Circuit("R1 resistor 10", "3V3=R1.1; GND=R1.2", supply_v=12.0),
        Circuit("R1 resistor 330", "3V3=R1.1; GND=R1.2", supply_v=5.0),
    ),
    "high too low": (
        with_mcu("D1 led_addressable", "5V=D1.VDD; GND=D1.GND; DATA=D1.DIN U2.P1"),
        Circuit("U2 controller_8_dip, D1 led_addressable", "5V=D1.VDD U2.VDD; GND=D1.GND U2.GND; DATA=D1.DIN U2.P1"),
    ),
    "inrush": (
        Circuit(
            CHARGE.format("5k") + ", C2 electrolytic_capacitor 220u 16 V",
            CHARGE_NETS + "; VBUS=C2.1; GND=C2.2",
            bare=True,
        ),
        charger("5k"),
    ),
    "LED current": (led("33"), led("330")),
    "LED dim": (led("4k7", "blue"), led("4k7", "red")),
    "level clash": (
        with_mcu("U3 logic_output_5v", "5V=U3.VCC; GND=U3.GND; X=U3.OUT U2.AIN0"),
        with_mcu("U3 logic_output_5v", "3V3=U3.VCC; GND=U3.GND; X=U3.OUT U2.AIN0"),
    ),
    "low too high": (lifted_gate("56"), lifted_gate("10k")),
    "mains": (mains("230 V", True), mains("24 V", True)),
    "mains on the board": (
        Circuit("J2 mains_terminal_2 230 V", "GND=J2.N; L=J2.L"),
        mains("230 V", True),
    ),
    "mains fuse": (mains("230 V", False), mains("230 V", True)),
    "negotiation": tuple(  # type: ignore[dict-item]
        Circuit(
            f"J1 usb_c_inlet, U1 negotiation_chip, R1 resistor {ohm}",
            "VBUS=J1.VBUS U1.VDD; GND=J1.GND U1.GND R1.2; CFG=U1.CFG1 R1.1; CC1=J1.CC1 U1.CC1; CC2=J1.CC2 U1.CC2",
            bare=True,
            supply_v=12.0,
        )
        for ohm in ("33k", "24k")
    ),
    "not modelled": (
        with_mcu("U3 bare_output", "3V3=U3.VDD; GND=U3.GND; X=U3.OUT U2.P1"),
        with_mcu("U3 logic_output_5v", "3V3=U3.VCC; GND=U3.GND; X=U3.OUT U2.P1"),
    ),
    "no-connect wired": (
        Circuit("U3 humidity_sensor", "3V3=U3.VDD; GND=U3.GND U3.NC"),
        Circuit("U3 humidity_sensor", "3V3=U3.VDD; GND=U3.GND"),
    ),
    "open drain": (
        with_mcu("U3 comparator_dual", "3V3=U3.VDD; GND=U3.GND; OUT=U3.OUT1 U2.P1"),
        with_mcu("U3 comparator_dual, R1 resistor 10k", "3V3=U3.VDD R1.1; GND=U3.GND; OUT=U3.OUT1 U2.P1 R1.2"),
    ),
    "option": (
        Circuit(PLAIN.parts, PLAIN.nets, options=LAMP, only={"R1": "full"}),
        Circuit(PLAIN.parts, PLAIN.nets, options=LAMP, only={"R1": "full", "R2": "full"}),
    ),
    "option floats": (
        with_mcu("R1 resistor 10k", "EN=U2.NRST R1.1; 3V3=R1.2", only={"R1": "full"}),
        with_mcu("R1 resistor 10k", "EN=U2.NRST R1.1; 3V3=R1.2", only={}),
    ),
    "pin current": (lit("1"), lit("330")),
    "polarity": (
        Circuit("C3 electrolytic_capacitor 100u 16 V", "GND=C3.1; 5V=C3.2"),
        Circuit("C3 electrolytic_capacitor 100u 16 V", "5V=C3.1; GND=C3.2"),
    ),
    "programming access": (
        with_mcu("", ""),
        with_mcu("J2 program_header", "3V3=J2.3V3; GND=J2.GND; SWD=U2.PROG J2.PROG"),
    ),
    "pull-up missing": (sensor("3V3=U3.VDD U3.CS; GND=U3.ADR"), sensor(PULLED, PULLS.format("4k7"))),
    "pull-up strength": (sensor(PULLED, PULLS.format("470")), sensor(PULLED, PULLS.format("4k7"))),
    "reserved address": (
        straps("U3.A0 U3.A1 U3.A2 U3.A3 U3.A4 U3.A5", ""),
        straps("U3.A0 U3.A1 U3.A2 U3.A3 U3.A4", "U3.A5"),
    ),
    "reset network": (
        with_mcu("SW1 button", "NRST=U2.NRST SW1.1; GND=SW1.2"),
        with_mcu(
            "SW1 button, R1 resistor 10k, C3 ceramic_capacitor 100n",
            "NRST=U2.NRST SW1.1 R1.1 C3.1; GND=SW1.2 C3.2; 3V3=R1.2",
        ),
    ),
    "resistor power": (Circuit("R1 resistor 33", "5V=R1.1; GND=R1.2"), Circuit("R1 resistor 1k", "5V=R1.1; GND=R1.2")),
    "reverse polarity": (Circuit("", ""), Circuit("D1 tvs_diode", "5V=D1.K; GND=D1.A")),
    "shared ground": (
        with_mcu(TWO.format("10k", "10k") + ", J2 heater_terminal 3", HALF + "; 5V=J2.1; GND=J2.2", supply_v=12.0),
        with_mcu(TWO.format("10k", "10k"), HALF),
    ),
    "source impedance": (with_mcu(TWO.format("100k", "100k"), HALF), with_mcu(TWO.format("4k7", "4k7"), HALF)),
    "static": (
        with_mcu("J2 terminal_2", "A=J2.1 U2.P1; GND=J2.2"),
        with_mcu("J2 terminal_2, D1 zener_diode 3.6", "A=J2.1 U2.P1 D1.K; GND=J2.2 D1.A"),
    ),
    "supplies joined": (
        Circuit("BT1 lithium_cell 3.8", "5V=BT1.+; GND=BT1.-"),
        Circuit("BT1 lithium_cell 3.8", "CELL=BT1.+; GND=BT1.-"),
    ),
    "supply not said": (Circuit("", "", supply_v=0.0), Circuit("", "", supply_v=12.0)),
    "supply overload": (
        Circuit("R1 resistor 1", "5V=R1.1; GND=R1.2", supply_limit_a=2.0),
        Circuit("R1 resistor 10", "5V=R1.1; GND=R1.2", supply_limit_a=2.0),
    ),
    "supply range": (
        Circuit("U3 eeprom_i2c", "12V=J1.TIP U3.VDD; GND=J1.SLEEVE U3.GND", bare=False, supply_v=12.0, drop=("J1",)),
        Circuit("U3 eeprom_i2c", "3V3=U3.VDD; GND=U3.GND"),
    ),
    "test point": (with_mcu("", ""), with_mcu("TP1 test_point", "3V3=TP1.1")),
    "transistor rating": (switched("nmos_small", "4"), switched("nmos_power", "4")),
    "unconnected pin": (with_mcu("", "X=U2.P1"), Circuit("R1 resistor 1k", "5V=R1.1; GND=R1.2")),
    "USB-C pull-down": (
        charger("5k"),
        Circuit(
            CHARGE.format("5k") + ", R2 resistor 5k1, R3 resistor 5k1",
            CHARGE_NETS + "; A=J1.CC1 R2.1; B=J1.CC2 R3.1; GND=R2.2 R3.2",
            bare=True,
        ),
    ),
    "voltage selector": (
        Circuit("SW1 slide_switch, U2 pressure_sensor", "5V=SW1.A; 3V3=SW1.B; V=SW1.COM U2.VDD; GND=U2.GND"),
        Circuit("SW1 slide_switch, U2 pressure_sensor", "3V3=SW1.A; GND=SW1.B U2.GND; V=SW1.COM U2.VDD"),
    ),
}
