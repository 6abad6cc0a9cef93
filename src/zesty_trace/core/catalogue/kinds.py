"""Part kinds: pins with roles and electrical facts, solver model, packages. Shipped as TOML, extendable by the user."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from pathlib import Path

import msgspec

from zesty_trace.core.catalogue.check import check_kind
from zesty_trace.core.catalogue.entries import line_of_entry, read_entries
from zesty_trace.core.catalogue.kind import ROLES, BusSpec, Choice, ElementSpec, Kind, Need, PackageSpec, PinSpec, Strap
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.catalogue.lands.check import check_package
from zesty_trace.errors import InputError
from zesty_trace.files import names_inside, read_given, read_inside, text_of
from zesty_trace.names import check_text, shorten, suggest

PACKAGES = "packages"  # the folder of the user's own ones


class Catalogue(msgspec.Struct, frozen=True):
    """All part kinds and packages known to a project."""

    kinds: dict[str, Kind]
    packages: dict[str, PackageSpec]
    own: frozenset[str] = frozenset()  # the packages that are the user's

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

    def packages_for(self, kind: Kind) -> tuple[str, ...]:
        """Return the packages that a kind comes in, and the user's own that have a pad for each of its pins."""
        numbers = {p.number for p in kind.pins}
        mine = (
            name
            for name in sorted(self.own - set(kind.packages))
            if numbers <= {p.number for p in land_pattern(self.packages[name]).pads}
        )
        return (*kind.packages, *mine)


def check_kinds(kinds: Mapping[str, Kind], packages: Mapping[str, PackageSpec], where: str, text: str = "") -> None:
    """Refuse kinds that name unknown packages or pin roles, or number a pin twice. InputError at the first.

    With the `text` that they were read from, the error names the line.
    """

    def at(kind: Kind, path: str) -> str:
        return f"{where} line {line_of_entry(text, kind.id, path)}, [{kind.id}]" if text else f"{where} [{kind.id}]"

    for kind in kinds.values():
        numbers = [pin.number for pin in kind.pins]
        for index, pin in enumerate(kind.pins):
            if pin.role not in ROLES:
                raise InputError(
                    f"pin {pin.number} has the unknown role “{pin.role}”",
                    at(kind, f".pins[{index}]"),
                    suggest(pin.role, ROLES),
                )
            if pin.number in numbers[:index]:
                raise InputError(
                    f"pin {pin.number} stands there twice", at(kind, f".pins[{index}]"), "Number each pin once"
                )
        for package in kind.packages:
            if package not in packages:
                raise InputError(f"unknown package {package}", at(kind, ".packages"), suggest(package, packages))
            without = [n for n in numbers if n not in {pad.number for pad in land_pattern(packages[package]).pads}]
            if without:
                words = f"{package} has no pad {without[0]}"
                raise InputError(
                    words, at(kind, ".packages"), "Take a package with a pad for each pin, or number them so"
                )
        check_kind(kind, lambda field, kind=kind: at(kind, field))  # type: ignore[misc]


@cache
def shipped() -> Catalogue:
    """Return the catalogue that comes with the application."""
    root = files("zesty_trace") / "data"
    kinds: dict[str, Kind] = {}
    packages: dict[str, PackageSpec] = {}
    for entry in sorted((root / "packages").iterdir(), key=lambda e: e.name):
        packages |= read_entries(entry.read_text("utf-8"), entry.name, PackageSpec)
    for entry in sorted((root / "kinds").iterdir(), key=lambda e: e.name):
        kinds |= read_entries(entry.read_text("utf-8"), entry.name, Kind)
    check_kinds(kinds, packages, "catalogue")
    return Catalogue(kinds, packages)


def read_kinds(path: Path, base: Catalogue) -> dict[str, Kind]:
    """Return the part kinds in one of the user's files. InputError with file and entry."""
    return kinds_of(read_given(path, "parts"), path.name, base)


def _check_texts(entry: Kind | PackageSpec, where: str) -> None:
    """Refuse an entry that has a text with control characters anywhere. InputError."""

    def walk(value: object) -> None:
        if isinstance(value, str):
            check_text(value, where)
        elif isinstance(value, dict):
            for key, item in value.items():
                walk(key)
                walk(item)
        elif isinstance(value, list | tuple):
            for item in value:
                walk(item)

    walk(msgspec.to_builtins(entry))


def kinds_of(data: bytes, name: str, base: Catalogue) -> dict[str, Kind]:
    """Return the part kinds that a file of this name holds. InputError with file and entry."""
    text = text_of(data, name)
    fresh = read_entries(text, name, Kind)
    for kind in fresh.values():
        _check_texts(kind, f"{name} [{shorten(kind.id)}]")
    check_kinds(fresh, base.packages, name, text)
    return fresh


def packages_of(data: bytes, name: str) -> dict[str, PackageSpec]:
    """Return the packages that a file of this name holds, each with a land pattern. InputError with file and entry."""
    fresh = read_entries(text_of(data, name), name, PackageSpec)
    for package in fresh.values():
        _check_texts(package, f"{name} [{shorten(package.id)}]")
    for spec in fresh.values():
        check_package(spec, name)
    return fresh


def with_user_parts(base: Catalogue, *folders: tuple[Path, str]) -> Catalogue:
    """Return `base` with what the TOML files in the folders add, the last one winning: packages, then part kinds.

    A folder is given as (where to start, its name there); below the start no link is followed. Those called `packages`
    hold packages. InputError as read_kinds.
    """
    packages, own = dict(base.packages), set(base.own)
    for root, folder in folders:
        for name in names_inside(root, folder, ".toml") if folder == PACKAGES else ():
            fresh = packages_of(read_inside(root, f"{folder}/{name}", "packages"), name)
            if known := set(fresh) & (set(base.packages) - base.own):
                words = f"{min(known)} is a package of the catalogue already"
                raise InputError(words, name, "Give yours another name")
            packages |= fresh
            own |= set(fresh)
    kinds = dict(base.kinds)
    grown = Catalogue(kinds, packages, frozenset(own))
    for root, folder in folders:
        for name in names_inside(root, folder, ".toml") if folder != PACKAGES else ():
            kinds |= kinds_of(read_inside(root, f"{folder}/{name}", "parts"), name, grown)
    return grown


__all__ = [
    "PACKAGES",
    "ROLES",
    "BusSpec",
    "Catalogue",
    "Choice",
    "ElementSpec",
    "Kind",
    "Need",
    "PackageSpec",
    "PinSpec",
    "Strap",
    "check_kinds",
    "kinds_of",
    "line_of_entry",
    "packages_of",
    "read_kinds",
    "shipped",
    "suggest",
    "with_user_parts",
]
