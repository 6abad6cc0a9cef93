"""A part kind out of a pin table.

Pasted as CSV or as lines from a data sheet, checked against its package, written as TOML.
"""

from __future__ import annotations

import re

import msgspec

from zesty_trace.core.catalogue.facts import Facts
from zesty_trace.core.catalogue.kinds import ROLES, BusSpec, Catalogue, Kind, Need, PinSpec, check_kinds, suggest
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.catalogue.models import Load, Open
from zesty_trace.errors import InputError

WHERE = "pin table"
ROLE_WORDS = {
    "p": "supply_in",
    "pwr": "supply_in",
    "power": "supply_in",
    "supply": "supply_in",
    "gnd": "ground",
    "ground": "ground",
    "i": "input",
    "in": "input",
    "input": "input",
    "o": "output",
    "out": "output",
    "output": "output",
    "i/o": "bidirectional",
    "io": "bidirectional",
    "bidirectional": "bidirectional",
    "od": "open_drain",
    "o/d": "open_drain",
    "open-drain": "open_drain",
    "nc": "no_connect",
    "n/c": "no_connect",
    "passive": "passive",
    "a": "passive",
    "analog": "passive",
    "analogue": "passive",
}
_SUPPLY = re.compile(r"^(A|D)?V(DD|CC|IN|BAT|BUS|S)[A-Z0-9_]*$|^\d+V\d*$", re.I)
_GROUND = re.compile(r"^(A|D|P)?(GND|VSS)[A-Z0-9_]*$", re.I)
_NUMBER = re.compile(r"^(\d{1,3}|[A-H]\d{1,2}|EP|PAD)$", re.I)
_CELLS = re.compile(r"\s*[,;\t|]\s*")
_CELL_FIRST = re.compile(r"^\s*[^\s,;|]+\s*[,;|]|^\s*\S+\t")
_ID = re.compile(r"^[a-z][a-z0-9_]{1,39}$")


def read_pin_table(text: str) -> tuple[PinSpec, ...]:
    """Return the pins of a table, in order of their numbers.

    A line has a number and a name in either order, then what the data sheet says of it: a role of ours, a type such as
    I/O or power, or prose. InputError names the line.
    """
    pins: list[PinSpec] = []
    seen: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or _is_header(line):
            continue
        words = [w for w in (_CELLS.split(line.strip()) if _CELL_FIRST.match(line) else line.split()) if w]
        where = f"{WHERE} line {number}"
        if len(words) < 2:
            raise InputError(f"“{line.strip()}” has no pin name", where, "Write: number, name, type")
        at = 0 if _NUMBER.match(words[0]) else 1
        if not _NUMBER.match(words[at]):
            raise InputError(f"“{line.strip()}” has no pin number", where, "Write: number, name, type")
        pin, name, rest = words[at].upper(), words[1 - at], words[2:]
        if pin in seen:
            raise InputError(f"pin {pin} stands in line {seen[pin]} already", where, "Number each pin once")
        seen[pin] = number
        pins.append(PinSpec(pin, name, guess_role(name, rest)))
    if not pins:
        raise InputError("The pin table is empty", WHERE, "Paste lines like: 1, VDD, power")
    return tuple(
        sorted(pins, key=lambda p: (not p.number.isdigit(), int(p.number) if p.number.isdigit() else 0, p.number))
    )


def _is_header(line: str) -> bool:
    words = {w.lower() for w in re.split(r"[,;\t|\s]+", line.strip()) if w}
    return line.lstrip().startswith("#") or (
        not any(map(_NUMBER.match, words)) and bool(words & {"pin", "number", "no", "name", "no."})
    )


def guess_role(name: str, said: list[str]) -> str:
    """Return the role of a pin from what is said of it, else from its name."""
    for word in said:
        plain = word.lower().strip("().:")
        if plain in ROLES:
            return plain
        if plain in ROLE_WORDS and len(word) <= 14:
            role = ROLE_WORDS[plain]
            return "ground" if role == "supply_in" and _GROUND.match(name) else role
    if _GROUND.match(name):
        return "ground"
    if _SUPPLY.match(name):
        return "supply_in"
    if re.match(r"^(NC|DNC)\d*$", name, re.I):
        return "no_connect"
    return "bidirectional" if re.match(r"^(P|GP|GPIO|IO|D)\d", name, re.I) else "passive"


def make_kind(
    kind_id: str,
    title: str,
    prefix: str,
    package: str,
    pins: tuple[PinSpec, ...],
    facts: Facts,
    supply_a: float,
    catalogue: Catalogue,
    address: int | None = None,
) -> Kind:
    """Return a kind that draws `supply_a` A from its first supply pin.

    With `address` it answers on its SDA and SCL pins.

    InputError where table, package and facts disagree."""
    if not _ID.match(kind_id):
        raise InputError(f"“{kind_id}” cannot name a kind", "name", "Use small letters, digits and _, up to 40 of them")
    if kind_id in catalogue.kinds:
        raise InputError(f"{kind_id} is in the catalogue already", "name", "Choose another name")
    if not re.match(r"^[A-Z]{1,3}$", prefix):
        raise InputError(
            f"“{prefix}” cannot begin a reference", "letter", "Use one to three capital letters, for example U"
        )
    pads = {p.number for p in land_pattern(catalogue.package(package)).pads if p.number}
    numbers = {p.number for p in pins}
    if extra := sorted(numbers - pads):
        raise InputError(
            f"{package} has no pad {extra[0]}", WHERE, f"It has {len(pads)} pads; the table has {len(pins)} pins"
        )
    if missing := sorted(pads - numbers):
        raise InputError(
            f"The table lacks pin {missing[0]} of {package}",
            WHERE,
            f"It has {len(pads)} pads; the table has {len(pins)} pins",
        )
    low, high = facts.supply_min_v or 0.0, facts.supply_max_v or 0.0
    if low > high:
        raise InputError(f"It would work from {low:g} V up to {high:g} V", "supply", "The lower figure comes first")
    supply = next((p.name for p in pins if p.role == "supply_in"), "")
    ground = next((p.name for p in pins if p.role == "ground"), "")
    feeds = bool(supply and ground)
    bus = None
    if address is not None:
        sda, scl = (next((p.name for p in pins if p.name.upper() == name), "") for name in ("SDA", "SCL"))
        if not sda or not scl:
            raise InputError(
                "A bus address needs pins called SDA and SCL", WHERE, "Name them so, or leave the address out"
            )
        bus = BusSpec(sda, scl, "device", address)
    kind = Kind(
        id=kind_id,
        title=title.strip() or kind_id,
        prefix=prefix,
        packages=(package,),
        pins=pins,
        facts=facts,
        bus=bus,
        model=Load(supply_a=supply_a, supply=supply, ground=ground) if feeds else Open(),
        needs=(Need(supply, "ceramic_capacitor", "100n"),) if feeds else (),
    )
    check_kinds({kind_id: kind}, catalogue.packages, WHERE)
    return kind


def write_kind(kind: Kind) -> str:
    """Return a kind as TOML that `part check` accepts; only what differs from the defaults."""
    import tomli_w

    raw = msgspec.to_builtins(kind)
    default = msgspec.to_builtins(Kind(id="", title="", prefix="", packages=(), pins=(), model=Open()))
    table = {k: v for k, v in raw.items() if k != "id" and v is not None and (k == "model" or v != default[k])}
    if "facts" in table:
        table["facts"] = {k: v for k, v in table["facts"].items() if v != default["facts"][k]}
    table["model"] = {k: v for k, v in table["model"].items() if v is not None}
    return tomli_w.dumps({kind.id: table})


def check_package(catalogue: Catalogue, package: str) -> int:
    """Return how many pads a package has. InputError names near misses."""
    if package not in catalogue.packages:
        raise InputError(f"There is no package “{package}”", "package", suggest(package, catalogue.packages))
    return len({p.number for p in land_pattern(catalogue.packages[package]).pads if p.number})
