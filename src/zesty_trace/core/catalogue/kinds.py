"""Part kinds: pins with roles and electrical facts, solver model, packages. Shipped as TOML, extendable by the user."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec

from zesty_trace.errors import InputError

ROLES = ("supply_in", "supply_out", "ground", "input", "output", "open_drain", "bidirectional", "passive", "no_connect")


class PinSpec(msgspec.Struct, frozen=True, array_like=True):
    """One pin of a kind."""

    number: str
    name: str
    role: str


class Strap(msgspec.Struct, frozen=True):
    """A pin that picks the bus address: the part of the address it gives when low and when high."""

    pin: str
    low: int
    high: int


class BusSpec(msgspec.Struct, frozen=True):
    """How a kind sits on a two-wire bus."""

    sda: str
    scl: str
    role: str
    address: int = 0
    straps: tuple[Strap, ...] = ()


class Need(msgspec.Struct, frozen=True):
    """A part that a pin of this kind wants beside it."""

    pin: str
    part: str
    value: str


class Choice(msgspec.Struct, frozen=True):
    """What a resistor from a pin to ground asks a supply for."""

    pin: str
    ohm: float
    volt: float


class ElementSpec(msgspec.Struct, frozen=True):
    """One element of a kind that is made of several: its type, pin names in terminal order, and values."""

    type: str
    pins: tuple[str, ...]
    values: dict[str, float] = {}
    tolerances: dict[str, float] = {}


class Kind(msgspec.Struct, frozen=True, kw_only=True):
    """One part kind.

    `flipped` are its elements in the other position (pressed, thrown, closed, pulled in); `ocv` the open-circuit
    voltage of a cell as (charge in percent, V).
    """

    id: str
    title: str
    prefix: str
    packages: tuple[str, ...]
    pins: tuple[PinSpec, ...]
    model: dict[str, float | int | str]
    elements: tuple[ElementSpec, ...] = ()
    flipped: tuple[ElementSpec, ...] = ()
    ocv: tuple[tuple[float, float], ...] = ()
    unit: str = ""
    tolerance: float = 0.0
    facts: dict[str, float] = {}
    bus: BusSpec | None = None
    needs: tuple[Need, ...] = ()
    choices: tuple[Choice, ...] = ()
    options: dict[str, dict[str, float]] = {}
    polarity: str = ""
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

    def number(self, fact: str, default: float = 0.0) -> float:
        """Return a number of the solver model."""
        return float(self.model.get(fact, default))


class PackageSpec(msgspec.Struct, frozen=True, kw_only=True):
    """The dimensions from which a land pattern is drawn, millimetres."""

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


class Catalogue(msgspec.Struct, frozen=True):
    """All part kinds and packages known to a project."""

    kinds: dict[str, Kind]
    packages: dict[str, PackageSpec]

    def kind(self, kind_id: str) -> Kind:
        """Return a kind by its id. InputError names near misses."""
        if kind_id in self.kinds:
            return self.kinds[kind_id]
        raise InputError(f"There is no part kind “{kind_id}”", kind_id, suggest(kind_id, self.kinds))

    def package(self, package_id: str) -> PackageSpec:
        """Return a package by its id. InputError names near misses."""
        if package_id in self.packages:
            return self.packages[package_id]
        raise InputError(f"There is no package “{package_id}”", package_id, suggest(package_id, self.packages))


def suggest(word: str, choices: Iterable[str]) -> str:
    """Return a hint with the nearest known words."""
    from difflib import get_close_matches

    known = sorted(choices)
    near = get_close_matches(word, known, n=3, cutoff=0.5)
    return f"Did you mean {' or '.join(near)}?" if near else f"Known: {', '.join(known)}"


def _load_file(text: str, where: str, shape: type[Any]) -> dict[str, Any]:
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"Not readable as TOML: {error}", where, "Mend the line named") from error
    found = {}
    for name, table in raw.items():
        try:
            found[name] = msgspec.convert({"id": name, **table}, shape)
        except msgspec.ValidationError as error:
            line = next((n for n, row in enumerate(text.splitlines(), 1) if row.strip() == f"[{name}]"), 1)
            raise InputError(str(error), f"{where} line {line}, [{name}]", "Mend the entry") from error
    return found


def check_kinds(kinds: Mapping[str, Kind], packages: Mapping[str, PackageSpec], where: str) -> None:
    """Refuse kinds that name unknown packages or pin roles, or number a pin twice. InputError at the first."""
    for kind in kinds.values():
        numbers = [pin.number for pin in kind.pins]
        for pin in kind.pins:
            if pin.role not in ROLES:
                raise InputError(
                    f"pin {pin.number} has the unknown role “{pin.role}”",
                    f"{where} [{kind.id}]",
                    suggest(pin.role, ROLES),
                )
            if numbers.count(pin.number) > 1:
                raise InputError(f"pin {pin.number} stands there twice", f"{where} [{kind.id}]", "Number each pin once")
        for package in kind.packages:
            if package not in packages:
                raise InputError(f"unknown package {package}", f"{where} [{kind.id}]", suggest(package, packages))


@cache
def shipped() -> Catalogue:
    """Return the catalogue that comes with the application."""
    root = files("zesty_trace") / "data"
    kinds: dict[str, Kind] = {}
    packages: dict[str, PackageSpec] = {}
    for entry in sorted((root / "packages").iterdir(), key=lambda e: e.name):
        packages |= _load_file(entry.read_text("utf-8"), entry.name, PackageSpec)
    for entry in sorted((root / "kinds").iterdir(), key=lambda e: e.name):
        kinds |= _load_file(entry.read_text("utf-8"), entry.name, Kind)
    check_kinds(kinds, packages, "catalogue")
    return Catalogue(kinds, packages)


def read_kinds(path: Path, base: Catalogue) -> dict[str, Kind]:
    """Return the part kinds in one of the user's files. InputError with file and entry."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"Could not read: {error}", path.name, "Choose a TOML file in UTF-8") from error
    fresh = _load_file(text, path.name, Kind)
    check_kinds(fresh, base.packages, path.name)
    return fresh


def with_user_parts(base: Catalogue, folder: Path) -> Catalogue:
    """Return `base` with the kinds of the TOML files in `folder` added. InputError with file and entry."""
    kinds = dict(base.kinds)
    for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
        kinds |= read_kinds(path, base)
    return Catalogue(kinds, dict(base.packages))
