"""What a part kind is to the solver: one struct for each model, told apart by `type`, unknown fields refused.

Fields are written in TOML under the symbol that a data sheet uses (`vf`, `r_on`); here they carry their unit. How a
model becomes elements is registered for its type in `core.circuit.build`.
"""

from __future__ import annotations

import msgspec
from msgspec import field


class Model(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="type"):
    """What every model can be asked. A question that makes no sense for a model is answered with None."""

    @property
    def output_v(self) -> float | None:
        """The voltage that the kind itself gives out, V."""
        return None

    @property
    def limit_a(self) -> float | None:
        """The most current that the kind gives out, A."""
        return None

    @property
    def series_ohm(self) -> float | None:
        """The resistance to direct current between its two pins, Ω."""
        return None


class Resistor(Model, tag="resistor", kw_only=True, frozen=True):
    """Pins 1 and 2; the part's value is its resistance."""


class FixedResistor(Model, tag="fixed_resistor", kw_only=True, frozen=True):
    """A fuse, bead or coil: direct current sees a small resistance."""

    ohm: float

    @property
    def series_ohm(self) -> float:
        """The resistance to direct current between its two pins, Ω."""
        return self.ohm


class Capacitor(Model, tag="capacitor", kw_only=True, frozen=True):
    """Carries no direct current."""


class Open(Model, tag="open", kw_only=True, frozen=True):
    """Carries no current that the solver knows of."""


class CurrentLoad(Model, tag="current_load", kw_only=True, frozen=True):
    """What hangs on a connector; the part's value is its current."""


class Inlet(Model, tag="inlet", kw_only=True, frozen=True):
    """Where the brief's supply comes in."""


class Composite(Model, tag="composite", kw_only=True, frozen=True):
    """Made of the kind's `elements`."""


class ValueComposite(Composite, tag="scaled", kw_only=True, frozen=True):
    """Made of the kind's `elements`, whose resistances are stated for a part of `ohm`: the part's value scales them."""

    ohm: float


class Potentiometer(Model, tag="potentiometer", kw_only=True, frozen=True):
    """Pins 1, W and 3; the part's value, or `ohm`, is the resistance from end to end."""

    ohm: float = 10e3


class Charger(Model, tag="charger", kw_only=True, frozen=True):
    """A linear cell charger: PROG sets its current."""


class Diode(Model, tag="diode", kw_only=True, frozen=True):
    """Drops `vf` at `if`; `n` is the ideality."""

    forward_v: float | None = field(name="vf", default=None)
    rated_a: float = field(name="if")
    ideality: float = field(name="n", default=1.0)


class Led(Model, tag="led", kw_only=True, frozen=True):
    """As a diode; `if` is its rated current too."""

    forward_v: float | None = field(name="vf", default=None)
    rated_a: float = field(name="if")
    ideality: float = field(name="n", default=1.0)


class Zener(Model, tag="zener", kw_only=True, frozen=True):
    """Breaks down at `v_z`, or at the part's value, when `i_z` flows."""

    zener_v: float = field(name="v_z", default=5.1)
    zener_a: float = field(name="i_z", default=0.005)


class FieldEffect(Model, kw_only=True, frozen=True):
    """A switch by its gate: `r_on` is stated at `vgs_on`."""

    threshold_v: float = field(name="vth")
    on_ohm: float = field(name="r_on")
    on_gate_v: float = field(name="vgs_on")


class Nmos(FieldEffect, tag="nmos", kw_only=True, frozen=True):
    """N channel."""


class Pmos(FieldEffect, tag="pmos", kw_only=True, frozen=True):
    """P channel; its voltages are written as positive numbers."""


class Bipolar(Model, kw_only=True, frozen=True):
    """A transistor by its saturation current and gain."""

    saturation_a: float = field(name="i_s")
    beta: float


class Npn(Bipolar, tag="npn", kw_only=True, frozen=True):
    """NPN."""


class Pnp(Bipolar, tag="pnp", kw_only=True, frozen=True):
    """PNP."""


class Supply(Model, kw_only=True, frozen=True):
    """Gives a voltage of its own out of another."""

    set_v: float = field(name="v_out")
    max_a: float = field(name="i_limit")
    quiescent_a: float = field(name="i_q", default=0.0)
    tolerance: float = 0.0

    @property
    def output_v(self) -> float:
        """The voltage that the kind itself gives out, V."""
        return self.set_v

    @property
    def limit_a(self) -> float:
        """The most current that the kind gives out, A."""
        return self.max_a


class Regulator(Supply, tag="regulator", kw_only=True, frozen=True):
    """Linear: needs `dropout` V more at its input, stated at `dropout_at` A."""

    dropout_v: float = field(name="dropout")
    dropout_at_a: float = field(name="dropout_at", default=1.0)


class AdjustableRegulator(Regulator, tag="adjustable_regulator", kw_only=True, frozen=True):
    """Linear: holds `v_out` between its output and the pin `adjust`, out of which `i_q` flows."""

    adjust: str

    @property
    def output_v(self) -> None:  # type: ignore[override]
        """None: what it gives is set by resistors."""
        return None


class Converter(Supply, tag="converter", kw_only=True, frozen=True):
    """Switching: passes power on with an efficiency, from `v_min` on."""

    efficiency: float
    start_v: float = field(name="v_min")


class Supplied(Model, kw_only=True, frozen=True):
    """Draws from a supply pin against a ground pin."""

    supply_a: float = field(name="i_supply")
    sleep_a: float | None = field(name="i_sleep", default=None)
    supply: str
    ground: str


class Load(Supplied, tag="load", kw_only=True, frozen=True):
    """A chip that draws a current."""


class OpAmp(Load, tag="op_amp", kw_only=True, frozen=True):
    """An operational amplifier: its channels are its pins OUT, IN+ and IN-, or OUT1, IN1+, IN1- and so on.

    Its outputs reach to `swing_low` V above its ground and to `swing_high` V below its supply.
    """

    gain: float = 1e5
    swing_low_v: float = field(name="swing_low", default=0.02)
    swing_high_v: float = field(name="swing_high", default=0.02)
    output_ohm: float = field(name="r_out", default=30.0)
    max_a: float = field(name="i_limit", default=0.025)


class Controller(Supplied, tag="controller", kw_only=True, frozen=True):
    """A chip whose program drives its pins, each through `r_drive`."""

    drive_ohm: float = field(name="r_drive")


class Battery(Model, tag="battery", kw_only=True, frozen=True):
    """A cell: `volt` unless the part states another, behind `ohm`."""

    volt: float
    ohm: float = 0.1

    @property
    def output_v(self) -> float:
        """The voltage that the kind itself gives out, V."""
        return self.volt


AnyModel = (
    Resistor
    | FixedResistor
    | Capacitor
    | Open
    | CurrentLoad
    | Inlet
    | Composite
    | ValueComposite
    | Potentiometer
    | Charger
    | Diode
    | Led
    | Zener
    | Nmos
    | Pmos
    | Npn
    | Pnp
    | Regulator
    | AdjustableRegulator
    | Converter
    | Load
    | OpAmp
    | Controller
    | Battery
)
MODELS: dict[str, type[Model]] = {
    str(m.__struct_config__.tag): m
    for m in (
        Resistor,
        FixedResistor,
        Capacitor,
        Open,
        CurrentLoad,
        Inlet,
        Composite,
        ValueComposite,
        Potentiometer,
        Charger,
        Diode,
        Led,
        Zener,
        Nmos,
        Pmos,
        Npn,
        Pnp,
        Regulator,
        AdjustableRegulator,
        Converter,
        Load,
        OpAmp,
        Controller,
        Battery,
    )
}


def type_of(model: Model) -> str:
    """Return the word by which a model is told apart in TOML."""
    return str(model.__struct_config__.tag)
