"""Is a part kind whole: what its model needs is there and within reason, and every pin that it speaks of exists.

What passes here can be drawn, solved, reviewed and placed; nothing after it has to look again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import msgspec

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import ElementSpec, Kind, channels
from zesty_trace.errors import InputError
from zesty_trace.names import is_name, shorten, suggest

MOST_PINS = 400
MOST_STEEP = 400.0  # forward voltage in thermal voltages: beyond it the exponent overflows
ANY = (-1e12, 1e12)
ABOVE = (1e-15, 1e12)  # above zero
SHARE = (0.0, 1.0)
# The range of each number that a model may state, by its field there; fields of one name mean the same in all models.
RANGES: dict[str, tuple[float, float]] = {
    "ohm": ABOVE,
    "forward_v": (0.01, 1000.0),
    "rated_a": (1e-12, 10_000.0),
    "ideality": (0.5, 200.0),
    "zener_v": (0.1, 10_000.0),
    "zener_a": (1e-9, 100.0),
    "threshold_v": (0.0, 100.0),
    "on_ohm": (1e-6, 1e6),
    "on_gate_v": (0.01, 100.0),
    "saturation_a": (1e-30, 1e-3),
    "beta": (0.1, 1e6),
    "set_v": (0.01, 1000.0),
    "max_a": (1e-6, 1000.0),
    "quiescent_a": (0.0, 10.0),
    "tolerance": SHARE,
    "dropout_v": (0.0, 100.0),
    "dropout_at_a": (1e-6, 1000.0),
    "efficiency": (0.01, 1.0),
    "start_v": (0.0, 1000.0),
    "supply_a": (0.0, 1000.0),
    "sleep_a": (0.0, 1000.0),
    "drive_ohm": (1e-3, 1e6),
    "volt": (0.1, 1000.0),
    "gain": (10.0, 1e7),
    "swing_low_v": (0.0, 100.0),
    "swing_high_v": (0.0, 100.0),
    "output_ohm": (1e-3, 1e6),
}
OWN_RANGES: dict[tuple[type[m.Model], str], tuple[float, float]] = {(m.Battery, "ohm"): (0.0, 1e6)}
NAMED_PINS: dict[type[m.Model], str] = {
    m.Diode: "AK",
    m.Led: "AK",
    m.Zener: "AK",
    m.FieldEffect: "DGS",
    m.Bipolar: "CBE",
    m.Potentiometer: "1W3",
}
NUMBERED_PINS = (m.Resistor, m.FixedResistor, m.Capacitor, m.CurrentLoad, m.Battery)
ROLES_NEEDED: dict[type[m.Model], tuple[str, ...]] = {
    m.Supply: ("supply_in", "supply_out", "ground"),
    m.Inlet: ("supply_out", "ground"),
}
# Elements of kinds that are made of several: pins, and the values each needs.
ELEMENTS: dict[str, tuple[int, tuple[str, ...]]] = {
    "resistor": (2, ("ohm",)),
    "source": (2, ("volt", "ohm")),
    "diode": (2, ("vf", "if")),
    "zener": (2, ("i_s", "n", "v_z", "i_z")),
    "current_load": (2, ("amp", "v_on")),
    "nmos": (3, ("vth", "r_on", "vgs_on")),
    "pmos": (3, ("vth", "r_on", "vgs_on")),
    "npn": (3, ("i_s", "beta")),
    "pnp": (3, ("i_s", "beta")),
    "regulator": (3, ("v_out", "v_drop", "r_drop", "i_q", "i_limit", "r_out")),
    "converter": (3, ("v_out", "efficiency", "v_min", "i_q", "i_limit", "r_out")),
    "darlington": (3, ("v_sat", "r_on", "v_on", "r_in", "gain")),
}
MAY_STATE = {"diode": ("n",)}
_NOT_ZERO = (
    "ohm",
    "r_on",
    "i_s",
    "n",
    "if",
    "vf",
    "beta",
    "i_limit",
    "efficiency",
    "r_drop",
    "r_out",
    "i_z",
    "v_z",
    "r_in",
    "gain",
)


def problems_of(kind: Kind) -> Iterator[tuple[str, str, str]]:
    """Yield (field at fault such as `.model`, what is wrong, what to do) for one kind."""
    yield from _head(kind)
    yield from _pins(kind)
    yield from _model(kind)
    yield from _elements(kind)
    yield from _bus(kind)
    yield from _numbers(kind)


def _head(kind: Kind) -> Iterator[tuple[str, str, str]]:
    if not is_name(kind.id, "kind"):
        yield "", f"“{shorten(kind.id)}” cannot be the id of a kind", "Use letters, digits and _ - ."
    if not kind.prefix.isalpha() or len(kind.prefix) > 4 or not kind.prefix.isascii():
        yield ".prefix", f"“{shorten(kind.prefix)}” cannot begin a reference", "One to four letters, such as U"
    if not kind.packages:
        yield ".packages", "it has no package", "Name at least one"
    if len(kind.pins) > MOST_PINS:
        yield ".pins", f"it has {len(kind.pins)} pins", f"At most {MOST_PINS}"
    for k, pin in enumerate(kind.pins):
        if not is_name(pin.number, "pin number") or not pin.name.strip() or len(pin.name) > 24:
            yield (
                f".pins[{k}]",
                f"“{shorten(pin.number)}” “{shorten(pin.name)}” cannot be a pin",
                "A short number and a name",
            )
    if not kind.title.strip() or len(kind.title) > 120:
        yield ".title", "it has no title, or one over 120 letters", "Say in a few words what it is"


def _model(kind: Kind) -> Iterator[tuple[str, str, str]]:
    model, type_ = kind.model, m.type_of(kind.model)
    for spec in msgspec.structs.fields(model):
        value = getattr(model, spec.name)
        if value is None or isinstance(value, str):
            continue
        low, high = OWN_RANGES.get((type(model), spec.name), RANGES[spec.name])
        if not _inside(value, (low, high)):
            said = f"{spec.encode_name} = {shorten(str(value))} cannot be"
            yield ".model", said, f"A number from {low:g} to {high:g}"
    if isinstance(model, m.Diode | m.Led):
        drops = [v for v in (model.forward_v, *(o.forward_v for o in kind.options.values())) if v is not None]
        if not drops:
            yield ".model", f"a {type_} needs vf", "The forward voltage at the current “if”"
        yield from ((".model", words, hint) for v in drops for words, hint in _junction(v, model.ideality))
    if isinstance(model, m.FieldEffect) and not model.on_gate_v > model.threshold_v:
        yield ".model", "vgs_on is not above vth", "r_on is stated at vgs_on, which is above the threshold"
    if isinstance(model, m.OpAmp) and not channels(kind):
        yield ".pins", "an op_amp has no channel", "Name its pins OUT, IN+ and IN-, or OUT1, IN1+, IN1- and so on"
    if isinstance(model, m.Composite) and not kind.elements:
        yield ".elements", "a composite needs elements", "List at least one"
    if isinstance(model, m.Charger) and kind.facts.charge_factor_v is None:
        yield ".facts", "a charger needs charge_factor_v", "Current times resistor, such as 1000 V"


def _junction(drop: object, n: object) -> Iterator[tuple[str, str]]:
    """Yield what is wrong with a junction's forward voltage against its ideality: its law must stay within reason."""
    if not _inside(drop, (0.01, 1000.0)):
        yield f"vf = {shorten(str(drop))} cannot be", "The forward voltage, from 0.01 V on"
    elif isinstance(n, int | float) and isinstance(drop, int | float) and n > 0 and drop / (n * 0.0258) > MOST_STEEP:
        yield f"vf = {drop:g} V is too much for n = {n:g}", "Take a larger n for several junctions in a row"


def _inside(value: object, bounds: tuple[float, float]) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and bounds[0] <= value <= bounds[1]


def _pins(kind: Kind) -> Iterator[tuple[str, str, str]]:
    model, type_ = kind.model, m.type_of(kind.model)
    names, numbers, roles = [p.name for p in kind.pins], [p.number for p in kind.pins], [p.role for p in kind.pins]
    wanted = [(n, ".pins") for shape, letters in NAMED_PINS.items() if isinstance(model, shape) for n in letters]
    wanted += [(n, ".pins") for n in (("PROG", "VCC", "BAT") if isinstance(model, m.Charger) else ())]
    wanted += [(n, ".model") for n in ((model.supply, model.ground) if isinstance(model, m.Supplied) else ())]
    wanted += [(n.pin, ".needs") for n in kind.needs] + [(c.pin, ".choices") for c in kind.choices]
    if kind.drive is not None:
        wanted += [(n, ".drive") for n in (kind.drive.supply, kind.drive.ground)]
        for name, value in (("ohm", kind.drive.ohm), ("sink_ohm", kind.drive.sink_ohm)):
            if value is not None and not _inside(value, (1e-3, 1e6)):
                yield ".drive", f"{name} = {value} cannot be", "The resistance of an output, from 1 mΩ to 1 MΩ"
    wanted += [(n, ".driven") for n in kind.driven] + [(n, ".mains") for n in kind.mains]
    wanted += [(model.adjust, ".model")] if isinstance(model, m.AdjustableRegulator) else []
    for name, field in wanted:
        if name not in names:
            yield field, f"it speaks of a pin {shorten(name)} that it does not have", "Name one of its pins"
    if isinstance(model, NUMBERED_PINS) and not {"1", "2"} <= set(numbers):
        yield ".pins", f"a {type_} has pins 1 and 2", "Number them so"
    adjusted = isinstance(model, m.AdjustableRegulator)
    wanted_roles = [r for shape, needed in ROLES_NEEDED.items() if isinstance(model, shape) for r in needed]
    for role in wanted_roles:
        if role not in roles and not (adjusted and role == "ground"):
            yield ".pins", f"a {type_} needs a pin with the role {role}", "Give one of its pins that role"


def _elements(kind: Kind) -> Iterator[tuple[str, str, str]]:
    for field, elements in ((".elements", kind.elements), (".flipped", kind.flipped)):
        for k, element in enumerate(elements):
            for words, hint in _element(kind, element):
                yield f"{field}[{k}]", words, hint


def _element(kind: Kind, element: ElementSpec) -> Iterator[tuple[str, str]]:
    if element.type not in ELEMENTS:
        yield f"there is no element “{shorten(element.type)}”", f"Known: {', '.join(ELEMENTS)}"
        return
    count, needed = ELEMENTS[element.type]
    if len(element.pins) != count:
        yield f"a {element.type} has {count} pins", "List them in terminal order"
    for name in element.pins:
        if all(p.name != name for p in kind.pins):
            yield f"it speaks of a pin {shorten(name)} that it does not have", "Name one of its pins"
    for name in element.values:
        if name not in (*needed, *MAY_STATE.get(element.type, ())):
            yield f"a {element.type} has no “{shorten(name)}”", suggest(name, needed)
    for name in needed:
        if name not in element.values:
            yield f"a {element.type} needs {name}", "Look it up in the data sheet"
    for name, value in element.values.items():
        if not _inside(value, ABOVE if name in _NOT_ZERO else ANY) and not (
            name in _NOT_ZERO and _inside(value, (1e-30, 1))
        ):
            yield (
                f"{shorten(name)} = {value} cannot be",
                "A number above zero" if name in _NOT_ZERO else "A finite number",
            )
    if element.type == "diode":
        yield from _junction(element.values.get("vf", 0.6), element.values.get("n", 2.0))
    if element.type in ("nmos", "pmos") and not element.values.get("vgs_on", 1.0) > element.values.get("vth", 0.0):
        yield "vgs_on is not above vth", "r_on is stated at vgs_on, which is above the threshold"
    for name, value in element.tolerances.items():
        if name not in element.values or not _inside(value, SHARE):
            yield f"the tolerance {shorten(name)} = {value} cannot be", "A share from 0 to 1 of one of its values"


def _bus(kind: Kind) -> Iterator[tuple[str, str, str]]:
    bus = kind.bus
    if bus is None:
        return
    if bus.role not in ("host", "device"):
        yield ".bus", f"“{shorten(bus.role)}” is no role on a bus", "host or device"
    for name in (bus.sda, bus.scl, *(s.pin for s in bus.straps)):
        if all(p.name != name for p in kind.pins):
            yield ".bus", f"it speaks of a pin {shorten(name)} that it does not have", "Name one of its pins"
    top = bus.address + sum(max(s.low, s.high) for s in bus.straps)
    parts = (bus.address, *(v for s in bus.straps for v in (s.low, s.high)))
    if not all(0 <= v <= 127 for v in parts) or top > 127:
        yield ".bus", "its address does not fit in 7 bits", "Addresses run from 0 to 127"


def _numbers(kind: Kind) -> Iterator[tuple[str, str, str]]:
    if not 0.0 <= kind.tolerance <= 1.0:
        yield ".tolerance", f"a tolerance of {kind.tolerance} cannot be", "A share from 0 to 1: 0.05 is 5 %"
    if not -60.0 <= kind.heat_max_c <= 1000.0:
        yield ".heat_max_c", f"{kind.heat_max_c} °C cannot be", "Up to 1000 °C"
    for name, value in msgspec.structs.asdict(kind.facts).items():
        if value is not None and not isinstance(value, bool | str) and not _inside(value, ANY):
            yield ".facts", f"{shorten(name)} = {value} is no finite number", "Write a number"
    for choice in kind.choices:
        if not (_inside(choice.ohm, (0.0, 1e12)) and _inside(choice.volt, ANY)):
            yield ".choices", "a choice is a resistance and a voltage", "Write numbers"
    if kind.ocv:
        percents = [p for p, _ in kind.ocv]
        good = len(set(percents)) == len(percents) >= 2 and all(0 <= p <= 100 for p in percents)
        if not good or not all(_inside(v, (0.0, 1000.0)) for _, v in kind.ocv):
            yield ".ocv", "its curve is pairs of percent and volts", "Two points or more, each percent once"


def check_kind(kind: Kind, at: Callable[[str], str]) -> None:
    """Refuse a kind that is not whole. InputError at its first problem; `at` gives the place of a field in words."""
    for field, words, hint in problems_of(kind):
        raise InputError(words, at(field), hint)
