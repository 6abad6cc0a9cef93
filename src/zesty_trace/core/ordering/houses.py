"""Board houses as price sheets in TOML, shipped (invented) and the user's own."""

from __future__ import annotations

import tomllib
from importlib.resources import files
from pathlib import Path

import msgspec

from zesty_trace.errors import InputError


class SizeStep(msgspec.Struct, frozen=True):
    """What a batch costs up to a size, one price for each quantity."""

    up_to_mm: tuple[float, float]
    per_batch: tuple[float, ...]


class Colour(msgspec.Struct, frozen=True):
    """What a solder mask colour adds."""

    days: int
    cost: float


class Stencil(msgspec.Struct, frozen=True):
    """A frameless stencil cut near board size."""

    cost: float
    days: int


class Freight(msgspec.Struct, frozen=True):
    """A way to send the parcel, calendar days."""

    name: str
    days: int
    cost: float


class House(msgspec.Struct, frozen=True, kw_only=True):
    """A board house's price sheet."""

    name: str
    currency: str
    setup: float
    working_days: int
    max_width_mm: float
    max_height_mm: float
    quantities: tuple[int, ...]
    layers: dict[str, float]
    size_steps: tuple[SizeStep, ...]
    colours: dict[str, Colour]
    stencil: Stencil
    freight: tuple[Freight, ...]


def read_house(text: str, where: str) -> House:
    """Return the price sheet in `text`. InputError with file and field."""
    try:
        house = msgspec.convert(tomllib.loads(text), House)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise InputError(f"The price sheet cannot be read: {error}", where, "Mend the field named") from error
    if list(house.quantities) != sorted(set(house.quantities)):
        raise InputError("quantities must rise", where, "Sort them, each once")
    for step in house.size_steps:
        if len(step.per_batch) != len(house.quantities):
            raise InputError(
                f"size step {step.up_to_mm} has {len(step.per_batch)} prices for {len(house.quantities)} quantities",
                where, "Give one price for each quantity",
            )  # fmt: skip
    return house


def load_houses(own_folder: Path | None = None) -> list[House]:
    """Return the shipped houses and those of `own_folder`; one of the same name replaces a shipped one."""
    houses = {}
    root = files("zesty_trace") / "data" / "houses"
    for entry in sorted(root.iterdir(), key=lambda e: e.name):
        house = read_house(entry.read_text("utf-8"), entry.name)
        houses[house.name] = house
    if own_folder and own_folder.is_dir():
        for path in sorted(own_folder.glob("*.toml")):
            house = read_house(path.read_text("utf-8"), path.name)
            houses[house.name] = house
    return list(houses.values())
