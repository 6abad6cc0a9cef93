"""One part kind: its pins with their roles, its electrical facts, its solver model."""

from __future__ import annotations

import re
from typing import Literal, NamedTuple

import msgspec
from msgspec import field

from zesty_trace.core.catalogue.facts import Facts
from zesty_trace.core.catalogue.models import AnyModel, Model, Supplied, ValueComposite

ROLES = ("supply_in", "supply_out", "ground", "input", "output", "open_drain", "bidirectional", "passive", "no_connect")

_OUT = re.compile(r"OUT(\w*)$")


class PinSpec(msgspec.Struct, frozen=True, array_like=True):
    """One pin of a kind."""

    number: str
    name: str
    role: str


class Strap(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A pin that picks the bus address: the part of the address it gives when low and when high."""

    pin: str
    low: int
    high: int


class BusSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a kind sits on a two-wire bus."""

    sda: str
    scl: str
    role: str
    address: int = 0
    straps: tuple[Strap, ...] = ()


class Need(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A part that a pin of this kind wants beside it."""

    pin: str
    part: str
    value: str


class Choice(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a resistor from a pin to ground asks a supply for."""

    pin: str
    ohm: float
    volt: float


class ElementSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One element of a kind that is made of several: its type, pin names in terminal order, and values."""

    type: str
    pins: tuple[str, ...]
    values: dict[str, float] = {}
    tolerances: dict[str, float] = {}


class Drive(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the outputs of a kind drive: the resistance of a push-pull output, and of an open-drain one pulling low, Ω.

    `supply` and `ground` name the pins between which they stand.
    """

    ohm: float = 50.0
    sink_ohm: float | None = None
    supply: str = "VDD"
    ground: str = "GND"


class Variety(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What differs when a part's value begins with this word: the forward voltage of a colour, V."""

    forward_v: float | None = field(name="vf", default=None)


class Kind(msgspec.Struct, frozen=True, kw_only=True):
    """One part kind.

    `polarity` is its mark, `assembly` what to mind when it is put on the board.
    `drive` is how its outputs drive, `driven` names the pins that an output is made to switch,
    `mains` those that may carry the mains where not all do.
    `flipped` are its elements in the other position (pressed, thrown, closed, pulled in); `ocv` the open-circuit
    voltage of a cell as (charge in percent, V).
    """

    id: str
    title: str
    prefix: str
    packages: tuple[str, ...]
    pins: tuple[PinSpec, ...]
    model: AnyModel
    elements: tuple[ElementSpec, ...] = ()
    flipped: tuple[ElementSpec, ...] = ()
    ocv: tuple[tuple[float, float], ...] = ()
    unit: str = ""
    tolerance: float = 0.0
    facts: Facts = Facts()
    bus: BusSpec | None = None
    drive: Drive | None = None
    driven: tuple[str, ...] = ()
    mains: tuple[str, ...] = ()
    needs: tuple[Need, ...] = ()
    choices: tuple[Choice, ...] = ()
    options: dict[str, Variety] = {}
    polarity: str = ""
    assembly: str = ""
    heat_sensitive: bool = False
    heat_max_c: float = 260.0
    late: bool = False
    connector: bool = False
    external: bool = False
    assembled: bool = True
    target: str = ""

    def pin(self, number_or_name: str) -> PinSpec | None:
        """Return the pin with this number, else the only pin with this name, else None."""
        for spec in self.pins:
            if spec.number == number_or_name:
                return spec
        named = [spec for spec in self.pins if spec.name.lower() == number_or_name.lower()]
        return named[0] if len(named) == 1 else None

    def pin_named(self, name: str) -> PinSpec:
        """Return the first pin of this name. KeyError if there is none."""
        for spec in self.pins:
            if spec.name == name:
                return spec
        raise KeyError(f"{self.id} has no pin {name}")

    def of_role(self, role: str) -> PinSpec | None:
        """Return the first pin with this role."""
        return next((spec for spec in self.pins if spec.role == role), None)

    def supply_pins(self) -> tuple[PinSpec, PinSpec] | None:
        """Return the supply and ground pins between which the kind draws; None if it draws from none."""
        if not isinstance(self.model, Supplied):
            return None
        return self.pin_named(self.model.supply), self.pin_named(self.model.ground)

    @property
    def value_needed(self) -> bool:
        """Whether a part of this kind must state its value: it has a unit, and no value of its own."""
        return bool(self.unit) and not self.is_a(ValueComposite)

    def is_a(self, *models: type[Model]) -> bool:
        """Whether the kind has one of these models."""
        return isinstance(self.model, models)


class Channel(NamedTuple):
    """The pins of one amplifier by name."""

    out: str
    plus: str
    minus: str


def channels(kind: Kind) -> list[Channel]:
    """Return the channels of a kind: OUT, IN+ and IN-, or OUT1, IN1+ and IN1-."""
    names = {p.name for p in kind.pins}
    found = []
    for spec in kind.pins:
        match = _OUT.match(spec.name)
        if match:
            plus, minus = (f"IN{match.group(1)}{sign}" for sign in "+-")
            if {plus, minus} <= names:
                found.append(Channel(spec.name, plus, minus))
    return found


class PadRow(msgspec.Struct, frozen=True, array_like=True):
    """One pad of a table: number, middle and size in mm, shape, drill, length of a slot, and its plating."""

    number: str
    x: float
    y: float
    width: float
    height: float
    shape: Literal["rect", "round", "oblong"] = "rect"
    drill: float = 0.0
    slot: float = 0.0
    plated: bool = True


class PackageSpec(msgspec.Struct, frozen=True, kw_only=True):
    """The dimensions from which a land pattern is made, millimetres; pairs of limits are (least, largest).

    Terminals of surface parts: `length` over them along x (`length_y` along y where that differs), `foot` how long the
    end of one is, `width` how wide, `tab` and `tab_foot` of a wide one; `form` is how they are bent, `density` how much
    solder is wanted around them (most, nominal, least). `sides` has the count of terminals a side, from the left
    counter-clockwise, `centre` the pad below the body. Leads in holes: `lead` the largest across one (the diagonal of
    a square one), `fit` how it sits (loose, normal, snug), `splay` how far apart the legs are before they are bent in.
    `facing` is where the mouth of a connector looks (right, up, left, down; "" straight up), `reach` how far in front
    of it nothing may stand; `antenna` how deep the end of a module
    that radiates is, from the top of its body.
    """

    id: str
    family: str
    height: float
    count: int = 2
    pitch: float = 0.0
    span: float = 0.0
    pad: tuple[float, float] = (1.0, 1.0)
    body: tuple[float, float] = (1.0, 1.0)
    body_shift: tuple[float, float] = (0.0, 0.0)
    drill: float = 0.0
    diameter: float = 0.0
    keepout: float = 0.0
    polar: bool = False
    power_w: float = 0.0
    theta_ja_c_per_w: float = 0.0
    facing: str = ""
    reach: float = 0.0
    length: tuple[float, float] = (0.0, 0.0)
    length_y: tuple[float, float] = (0.0, 0.0)
    foot: tuple[float, float] = (0.0, 0.0)
    width: tuple[float, float] = (0.0, 0.0)
    tab: tuple[float, float] = (0.0, 0.0)
    tab_foot: tuple[float, float] = (0.0, 0.0)
    tab_number: str = ""
    numbers: tuple[str, ...] = ()
    pitches: tuple[float, ...] = ()
    form: str = ""
    density: str = "nominal"
    sides: tuple[int, ...] = ()
    centre: tuple[float, float] = (0.0, 0.0)
    first: str = "corner"
    missing: tuple[str, ...] = ()
    ball: float = 0.0
    lead: float = 0.0
    fit: str = "normal"
    slot: float = 0.0
    splay: float = 0.0
    pads: tuple[PadRow, ...] = ()
    antenna: float = 0.0

    @property
    def looks(self) -> str:
        """Which side of it belongs at the edge of the board: that of its mouth, or the end with its antenna."""
        return self.facing or ("up" if self.antenna else "")
