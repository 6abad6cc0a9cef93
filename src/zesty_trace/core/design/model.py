"""The frozen design: one value from which every station computes.

Structs are frozen and are only ever replaced; the dicts inside them are never written to after construction (every
edit copies). Identity is by reference designator and by net name. Lengths are integer nanometres, angles
millidegrees, electrical values SI floats.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import msgspec

from zesty_trace.core.geometry import Point

SCHEMA_VERSION = 10
Face = Literal["top", "bottom"]
FACES: tuple[Face, Face] = ("top", "bottom")
LayerName = Literal["top", "inner1", "inner2", "bottom"]
COPPER: tuple[LayerName, ...] = ("top", "inner1", "inner2", "bottom")
Outline = tuple[Point, ...]  # closed, counter-clockwise
Made = Literal["machine", "hand"]
Alloy = Literal["leaded", "lead-free", "low-temperature"]


@dataclass(frozen=True)
class Names:
    """Marks a text that names something else in the design; `references` holds what becomes of it."""

    what: Literal["part", "net", "variant", "state", "option", "block"]


Ref = Annotated[str, Names("part")]
NetName = Annotated[str, Names("net")]
VariantName = Annotated[str, Names("variant")]
StateName = Annotated[str, Names("state")]
OptionName = Annotated[str, Names("option")]
BlockName = Annotated[str, Names("block")]


class Pin(msgspec.Struct, frozen=True, order=True, array_like=True):
    """One pin of one part, by number."""

    ref: Ref
    number: str

    def __str__(self) -> str:
        return f"{self.ref}.{self.number}"


class TemplateHole(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where the case forces a part or a mounting hole to sit. Origin: the board's lower left corner.

    The part may be off by the tolerances; `hole_nm` is the diameter of the opening for it, 0 if that was not said.
    """

    ref: Ref
    x_nm: int
    y_nm: int
    angle_mdeg: int = 0
    tolerance_nm: int = 50_000
    turn_mdeg: int = 100
    hole_nm: int = 0


class Brief(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What the board must be; every later station checks against it. A supply of 0 V is one that nobody has said."""

    purpose: str = ""
    quantity: int = 1
    needed_by: str = ""
    budget_eur: float = 0.0
    supply_v: float = 0.0
    supply_limit_a: float = 3.0
    ambient_c: float = 25.0
    humidity_pct: float = 50.0
    case_width_nm: int = 80_000_000
    case_height_nm: int = 56_000_000
    case_depth_nm: int = 25_000_000
    template: tuple[TemplateHole, ...] = ()
    options_wanted: str = ""
    facts: dict[str, str] = {}


class Part(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One part. An empty `variants` means it is fitted in all of them; `values` has other values by variant.

    `raised_nm` is how high above the board its seat is: in a socket, on spacers. A module `stands_on` headers that are
    parts as well: it has no pads of its own on the board.
    """

    ref: Ref
    kind: str
    value: str = ""
    package: str = ""
    variants: tuple[VariantName, ...] = ()
    block: BlockName = ""
    notes: str = ""
    values: dict[VariantName, str] = {}
    raised_nm: int = 0
    stands_on: tuple[Ref, ...] = ()

    def value_in(self, variant: str) -> str:
        """Return the value on the boards of `variant`: its own there, or the one for all."""
        return self.values.get(variant, self.value)

    def fitted(self, variant: str) -> bool:
        """Whether the part is on the boards of `variant` ("" means the fullest board)."""
        return not self.variants or not variant or variant in self.variants


class SheetSpot(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where the user put a part on the sheet, in sheet grid units."""

    x: int
    y: int


class Placement(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where a part sits on the board; `fixed` parts are not moved by the application."""

    x_nm: int
    y_nm: int
    angle_mdeg: int = 0
    side: Face = "top"
    fixed: bool = False


class Track(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A straight or jogging piece of copper of one width. The machine leaves what is made by hand, or locked, alone."""

    net: NetName
    layer: LayerName
    width_nm: int
    points: tuple[Point, ...]
    made: Made = "machine"
    locked: bool = False

    @property
    def kept(self) -> bool:
        """Whether the machine must leave it alone."""
        return self.locked or self.made == "hand"


class Via(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A plated hole through the whole board, with copper on each layer."""

    net: NetName
    x_nm: int
    y_nm: int
    diameter_nm: int = 600_000
    drill_nm: int = 300_000
    made: Made = "machine"
    locked: bool = False

    @property
    def kept(self) -> bool:
        """Whether the machine must leave it alone."""
        return self.locked or self.made == "hand"


class Pour(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """An order to fill what is free of a layer, or of `outline` on it, with the copper of one net.

    Where pours meet, the one of the higher priority is filled first. 0 nm of clearance is that of the board rules.
    """

    net: NetName
    layer: LayerName
    outline: Outline = ()
    priority: int = 0
    clearance_nm: int = 0
    spoke_nm: int = 500_000
    gap_nm: int = 300_000


class KeepOut(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A part of the board where something may not be; parts there are no taller than `height_nm`, if that is said.

    It is for all layers of copper if none are named.
    """

    name: str = ""
    outline: Outline
    layers: tuple[LayerName, ...] = ()
    tracks: bool = True
    vias: bool = True
    pours: bool = True
    parts: bool = False
    height_nm: int | None = None

    def on(self, layer: LayerName) -> bool:
        """Whether it is for this layer."""
        return not self.layers or layer in self.layers


class NetClass(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Nets with a least track width and a distance from all others of their own, beside those of the board rules."""

    name: str
    nets: tuple[NetName, ...] = ()
    width_nm: int = 0
    clearance_nm: int = 0


class Form(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """The dimensions that an outline was made from: they can be edited as numbers."""

    shape: Literal["rectangle", "circle", "ring", "polygon"]
    width_nm: int = 0  # outside diameter of round ones, across corners of a polygon
    height_nm: int = 0
    corner_nm: int = 0
    inside_nm: int = 0  # diameter of a ring's middle
    sides: int = 0


class Rules(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What the board house can make: a comfortable two-layer class (common practice).

    `made_by` names the rule set that the numbers were taken from, "" for numbers of one's own. On a board of one layer
    all copper is on the bottom, and wire links stand in for tracks on the top. `copper_um` is that of the outer layers.
    """

    made_by: str = ""
    layers: Literal[1, 2, 4] = 2

    clearance_nm: int = 200_000
    track_nm: int = 250_000
    least_track_nm: int = 200_000
    drill_nm: int = 300_000
    annular_nm: int = 150_000
    edge_nm: int = 300_000
    copper_um: float = 35.0
    inner_um: float = 17.5
    thickness_nm: int = 1_600_000
    temperature_rise_c: float = 10.0
    mask_margin_nm: int = 50_000
    mask_web_nm: int = 100_000
    hole_gap_nm: int = 250_000
    hole_edge_nm: int = 500_000
    silk_pen_nm: int = 150_000
    silk_text_nm: int = 800_000
    via_nm: int = 600_000
    via_drill_nm: int = 300_000

    @property
    def stack(self) -> tuple[LayerName, ...]:
        """The layers of copper from the top down: a board of one layer has its wire links on the top."""
        return COPPER if self.layers == 4 else FACES

    @property
    def plated_through(self) -> tuple[LayerName, ...]:
        """The layers on which a plated hole has copper."""
        return self.stack if self.layers > 1 else ("bottom",)

    def foil_um(self, layer: LayerName) -> float:
        """Return the thickness of a layer's copper."""
        return self.copper_um if layer in FACES else self.inner_um


class Board(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Outline (closed, counter-clockwise) with its cut-outs, what may not be where, placements and copper.

    `form` has the dimensions of an outline that was made from numbers. `given` names the zip of finished files in the
    project's `fabrication` folder that have the copper of this board: then there is none here.
    """

    given: str = ""
    outline: Outline = ()
    form: Form | None = None
    cutouts: tuple[Outline, ...] = ()
    keepouts: tuple[KeepOut, ...] = ()
    classes: tuple[NetClass, ...] = ()
    placements: dict[Ref, Placement] = {}
    tracks: tuple[Track, ...] = ()
    vias: tuple[Via, ...] = ()
    pours: tuple[Pour, ...] = ()
    rules: Rules = Rules()

    @property
    def stack(self) -> tuple[LayerName, ...]:
        """The layers of copper from the top down."""
        return self.rules.stack


class CentroidForm(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the table of places is written, since houses differ.

    `origin` is that of the files or the board's lower left corner; turns are counted `clockwise` or not, those of the
    bottom as seen from the top (mirrored first, then turned) or from `below`; `added_deg` is put on top by package.
    """

    origin: Literal["files", "corner"] = "files"
    unit: Literal["mm", "mil"] = "mm"
    clockwise: bool = False
    bottom: Literal["top", "below"] = "top"
    added_deg: dict[str, float] = {}


class Build(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How this batch is made and ordered, and in which oven: its power and the room inside.

    A stencil that is "as needed" is frameless if anything gets paste, and none otherwise. `batch` says how many boards
    of the brief are of each variant; empty, all are of `variant`.
    """

    alloy: Alloy = "lead-free"
    variant: VariantName = ""
    colour: str = "green"
    finish: str = "lead-free tin"
    stencil: Literal["as needed", "none", "frameless", "framed"] = "as needed"
    batch: dict[VariantName, int] = {}
    spare_boards: int = 0
    oven_power_w: float = 1500.0
    oven_litres: float = 20.0
    centroid: CentroidForm = CentroidForm()


class ImageSpec(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A firmware image in the project's `firmware/` folder, and which boards take it."""

    file: str
    target: str
    variant: VariantName = ""
    base_address: int = 0


class Wiper(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where a potentiometer's wiper is: 0 % at its pin 1, 100 % at its pin 3."""

    ref: Ref
    pct: float


class StateSpec(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """An operating state by the user's word: outputs that are high, parts in their other position or asleep, supplies.

    `supply_v` None is the brief's supply; `cell_pct` None is the voltage stated with the cell.
    """

    name: StateName
    high: tuple[Pin, ...] = ()
    flipped: tuple[Ref, ...] = ()
    asleep: tuple[Ref, ...] = ()
    unplugged: tuple[Ref, ...] = ()
    wipers: tuple[Wiper, ...] = ()
    reset: bool = False
    supply_v: float | None = None
    cell_pct: float | None = None


class Moment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One step of the timeline: a state and how long it lasts."""

    state: StateName
    seconds: float


class Measured(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What was measured on the prototype: the voltage of `net`, or the current into a pin or out of a supply part.

    `pin` is a pin's name or number; without one the current is the part's own.
    """

    net: NetName = ""
    ref: Ref = ""
    pin: str = ""
    value: float
    tolerance_pct: float = 10.0
    state: StateName = ""

    @property
    def what(self) -> Literal["voltage", "current"]:
        """Which of the two it is."""
        return "voltage" if self.net else "current"

    @property
    def where(self) -> str:
        """The net, the part, or `U3.VDD`."""
        return self.net or (f"{self.ref}.{self.pin}" if self.pin else self.ref)


class Acceptance(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A finding that somebody looked at and accepted: of which rule, about what, why, when, and its number then.

    It follows its parts and nets under other names, goes with them, and counts no longer once the number is worse.
    """

    rule: str
    refs: tuple[Ref, ...] = ()
    pins: tuple[Pin, ...] = ()
    nets: tuple[NetName, ...] = ()
    which: str = ""
    reason: str
    when: str = ""
    value: float | None = None
    limit: float | None = None
    unit: str = ""


class Option(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A set of parts that is fitted as one, the options it needs, and the firmware switch that goes with it."""

    name: OptionName
    refs: tuple[Ref, ...]
    needs: tuple[OptionName, ...] = ()
    switch: str = ""


class Page(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One page of the schematic: the blocks drawn on it."""

    name: str
    blocks: tuple[BlockName, ...]


class ChangeNote(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A point for the next revision."""

    text: str
    done: bool = False


class Design(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The whole design of one revision of one board."""

    schema: int = SCHEMA_VERSION
    name: str = "Untitled board"
    revision: str = "A"
    brief: Brief = Brief()
    variants: tuple[VariantName, ...] = ()
    parts: dict[Ref, Part] = {}
    nets: dict[NetName, tuple[Pin, ...]] = {}
    not_connected: tuple[Pin, ...] = ()
    sheet: dict[Ref, SheetSpot] = {}
    board: Board = Board()
    build: Build = Build()
    images: tuple[ImageSpec, ...] = ()
    changes: tuple[ChangeNote, ...] = ()
    accepted: tuple[Acceptance, ...] = ()
    states: tuple[StateSpec, ...] = ()
    timeline: tuple[Moment, ...] = ()
    measured: tuple[Measured, ...] = ()
    options: tuple[Option, ...] = ()
    pages: tuple[Page, ...] = ()

    def net_of(self) -> dict[Pin, str]:
        """Return the net of every connected pin."""
        return {pin: name for name, pins in self.nets.items() for pin in pins}

    def fitted(self, variant: str = "") -> Design:
        """Return the design with only the parts of `variant`, at their values there; nets keep the remaining pins."""
        if not variant:
            return self
        replace = msgspec.structs.replace
        parts = {
            ref: replace(part, value=part.value_in(variant)) if variant in part.values else part
            for ref, part in self.parts.items()
            if part.fitted(variant)
        }
        nets = {n: tuple(p for p in pins if p.ref in parts) for n, pins in self.nets.items()}
        return msgspec.structs.replace(self, parts=parts, nets={n: p for n, p in nets.items() if p})


def to_json(design: Design) -> bytes:
    """Return the design as UTF-8 JSON, two-space indented, fields and parts in their own stable order.

    It diffs well.
    """
    return msgspec.json.format(msgspec.json.encode(design), indent=2) + b"\n"


def json_schema() -> dict[str, object]:
    """Return the JSON Schema of `design.json`."""
    return msgspec.json.schema(Design)
