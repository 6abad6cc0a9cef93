"""More small circuits: of the rules on names, cells, and what can never work."""

from __future__ import annotations

from tests.core.rule_cases import CHARGE, CHARGE_NETS, Circuit, with_mcu

PATH = "U2 regulator_3v3_low_drop, Q1 pmos_power, D1 schottky_diode, R2 resistor 100k, C2 ceramic_capacitor 1u, U3 {}"
PATH_NETS = "; VBUS=D1.A Q1.G R2.1; GND=R2.2 U2.GND C2.2 U3.GND; SYS=D1.K U2.IN {}; 3V3=U2.OUT C2.1 U3.VDD"


def power_path(cell: str, other: str, more: str = "{}") -> Circuit:
    """Return a cell with its charger, a transistor from it to the load, and a diode from the inlet."""
    parts = f"{CHARGE.format('5k')}, {PATH.format('controller_32_qfn')}"
    nets = CHARGE_NETS + PATH_NETS.format(f"Q1.{other}") + f"; CELL=Q1.{cell}"
    return Circuit(parts, more.format(nets), bare=True)


def backwards() -> Circuit:
    """Return the same with the diode of the inlet the wrong way round."""
    parts = f"{CHARGE.format('5k')}, {PATH.format('controller_32_qfn')}"
    nets = (CHARGE_NETS + PATH_NETS.format("Q1.S") + "; CELL=Q1.D").replace("D1.A Q1.G", "D1.K Q1.G")
    return Circuit(parts, nets.replace("SYS=D1.K", "SYS=D1.A"), bare=True)


def on_the_inlet_alone() -> Circuit:
    """Return the same with the regulator on the inlet."""
    parts = f"{CHARGE.format('5k')}, {PATH.format('controller_32_qfn')}"
    nets = (CHARGE_NETS + PATH_NETS.format("Q1.S") + "; CELL=Q1.D").replace("SYS=D1.K U2.IN", "VBUS=U2.IN; SYS=D1.K")
    return Circuit(parts, nets, bare=True)


def amplifier(back: str) -> Circuit:
    """Return an amplifier with a resistor from its output to a net."""
    return with_mcu(
        "U3 op_amp_single, R1 resistor 10k, R2 resistor 100k, R3 resistor 1k",
        "3V3=U3.VDD; GND=U3.GND R3.2; IN=U3.IN+ R1.1; X=R1.2 U2.P1; INV=U3.IN- R3.1; OUT=U3.OUT R2.1 U2.AIN0; "
        f"{back}=R2.2",
    )


MORE: dict[str, tuple[Circuit, Circuit]] = {
    "swapped lines": (
        with_mcu("U3 rs485_transceiver, J2 header_2", "3V3=U3.VCC; GND=U3.GND; A=U3.B J2.1; B=U3.A J2.2"),
        with_mcu("U3 rs485_transceiver, J2 header_2", "3V3=U3.VCC; GND=U3.GND; A=U3.A J2.1; B=U3.B J2.2"),
    ),
    "data pins joined": (
        with_mcu("U3 sram_32k", "5V=U3.VDD; GND=U3.GND; X=U3.D0 U3.D1 U2.P1"),
        with_mcu("U3 sram_32k", "5V=U3.VDD; GND=U3.GND; X=U3.D0 U2.P1; Y=U3.D1 U2.P2"),
    ),
    "cell charged": (power_path("S", "D"), power_path("D", "S")),
    "back-fed inlet": (backwards(), power_path("D", "S")),
    "idle cell": (on_the_inlet_alone(), power_path("D", "S")),
    "no supply": (
        Circuit("U3 eeprom_i2c, C1 ceramic_capacitor 100n", "V=U3.VDD C1.1; GND=U3.GND C1.2", bare=True),
        Circuit("J1 terminal_2, U3 eeprom_i2c", "V=U3.VDD J1.1; GND=U3.GND J1.2", bare=True),
    ),
    "no effect": (
        with_mcu("SW1 button, R1 resistor 10k", "3V3=R1.1 SW1.2; K=SW1.1 R1.2 U2.P1"),
        with_mcu("SW1 button, R1 resistor 10k", "3V3=R1.1; GND=SW1.2; K=SW1.1 R1.2 U2.P1"),
    ),
    "never on": (
        with_mcu(
            "Q1 nmos_small, R1 resistor 100k, R2 resistor 10k, R3 resistor 100",
            "G=R1.2 Q1.G R2.1; P=U2.P1 R1.1; GND=Q1.S R2.2; 5V=R3.1; D=Q1.D R3.2",
        ),
        with_mcu(
            "Q1 nmos_small, R1 resistor 100, R2 resistor 10k, R3 resistor 100",
            "G=R1.2 Q1.G R2.1; P=U2.P1 R1.1; GND=Q1.S R2.2; 5V=R3.1; D=Q1.D R3.2",
        ),
    ),
    "no feedback": (amplifier("IN"), amplifier("INV")),
    "opto wiring": (
        with_mcu(
            "U3 opto_isolator, R1 resistor 10k, R2 resistor 470",
            "3V3=R1.1; X=R1.2 U3.E U2.P1; GND=U3.C U3.K; A=U3.A R2.2; P=R2.1 U2.P2",
        ),
        with_mcu(
            "U3 opto_isolator, R1 resistor 10k, R2 resistor 470",
            "3V3=R1.1; X=R1.2 U3.C U2.P1; GND=U3.E U3.K; A=U3.A R2.2; P=R2.1 U2.P2",
        ),
    ),
    "voltage by name": (
        Circuit(
            "U3 eeprom_i2c, J9 barrel_jack", "3V3=U3.VDD J9.TIP; GND=U3.GND J9.SLEEVE", drop=("J1", "U1", "C1", "C2")
        ),
        Circuit("U3 eeprom_i2c", "3V3=U3.VDD; GND=U3.GND"),
    ),
}
