"""Board houses as price sheets in TOML, shipped (invented) and the user's own."""

from __future__ import annotations

import re
import tomllib
from importlib.resources import files
from pathlib import Path

import msgspec

from zesty_trace.core.ordering.money import Money, money
from zesty_trace.errors import InputError
from zesty_trace.files import names_inside, read_inside, text_of
from zesty_trace.names import check_text, shorten

ROUNDING_MM = 1e-6


class SizeStep(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a batch costs up to a size, one price for each quantity."""

    up_to_mm: tuple[float, float]
    per_batch: tuple[float, ...]


class Colour(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a solder mask colour adds."""

    days: int
    cost: float


class Stencil(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A frameless stencil cut near board size."""

    cost: float
    days: int


class Freight(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A way to send the parcel, calendar days."""

    name: str
    days: int
    cost: float


class House(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
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
    limits: dict[str, float] = {}

    def money(self, amount: float) -> Money:
        """Return one of the sheet's figures as a sum in the house's currency."""
        return money(amount, self.currency)

    def makes_size(self, width_mm: float, height_mm: float) -> bool:
        """Whether a board of this size, turned as it fits, is within the largest that the house makes."""
        long, short = max(width_mm, height_mm), min(width_mm, height_mm)
        most = max(self.max_width_mm, self.max_height_mm), min(self.max_width_mm, self.max_height_mm)
        return long <= most[0] + ROUNDING_MM and short <= most[1] + ROUNDING_MM


def read_house(text: str, where: str) -> House:
    """Return the price sheet in `text`. InputError with file and field."""
    try:
        house = msgspec.convert(tomllib.loads(text), House)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError, ValueError, OverflowError, RecursionError) as error:
        raise InputError(f"The price sheet cannot be read: {error}", where, "Mend the field named") from error
    _check_numbers(house, where)
    if list(house.quantities) != sorted(set(house.quantities)):
        raise InputError("quantities must rise", where, "Sort them, each once")
    for step in house.size_steps:
        if len(step.per_batch) != len(house.quantities):
            raise InputError(
                f"size step {step.up_to_mm} has {len(step.per_batch)} prices for {len(house.quantities)} quantities",
                where,
                "Give one price for each quantity",
            )
    return house


MOST_DAYS, MOST_MONEY, MOST_MM, MOST_PIECES, MOST_ROWS = 365, 1e7, 2000.0, 1_000_000, 200


def _check_numbers(house: House, where: str) -> None:
    """Refuse prices, days, sizes and quantities that no sheet has. InputError names the field."""

    def number(value: float, low: float, high: float, field: str) -> None:
        if not low <= value <= high:
            raise InputError(f"{field} = {value:g} cannot be", where, f"Between {low:g} and {high:g}")

    check_text(house.name, f"{where}, name", 80)
    if not house.name.strip() or not re.fullmatch(r"[A-Z]{3}", house.currency):
        raise InputError("A house has a name and a currency of three letters", where, 'Such as currency = "EUR"')
    number(house.setup, 0, MOST_MONEY, "setup")
    number(house.working_days, 0, MOST_DAYS, "working_days")
    number(house.max_width_mm, 1, MOST_MM, "max_width_mm")
    number(house.max_height_mm, 1, MOST_MM, "max_height_mm")
    number(house.stencil.cost, 0, MOST_MONEY, "stencil.cost")
    number(house.stencil.days, 0, MOST_DAYS, "stencil.days")
    rows = (house.quantities, house.layers, house.size_steps, house.colours, house.freight)
    if any(len(r) > MOST_ROWS for r in rows):
        raise InputError(f"A list has more than {MOST_ROWS} entries", where, "Shorten it")
    if not house.quantities or not house.size_steps or not house.freight:
        raise InputError("It needs quantities, size steps and a freight", where, "Add at least one of each")
    for quantity in house.quantities:
        number(quantity, 1, MOST_PIECES, "quantities")
    for name, factor in house.layers.items():
        number(factor, 0, 1000, f"layers.{shorten(name)}")
    for step in house.size_steps:
        for size in step.up_to_mm:
            number(size, 1, MOST_MM, "size_steps.up_to_mm")
        for price in step.per_batch:
            number(price, 0, MOST_MONEY, "size_steps.per_batch")
    for name, colour in house.colours.items():
        number(colour.days, 0, MOST_DAYS, f"colours.{shorten(name)}.days")
        number(colour.cost, 0, MOST_MONEY, f"colours.{shorten(name)}.cost")
    for freight in house.freight:
        check_text(freight.name, f"{where}, freight", 80)
        number(freight.days, 0, MOST_DAYS, f"freight {shorten(freight.name)}: days")
        number(freight.cost, 0, MOST_MONEY, f"freight {shorten(freight.name)}: cost")


def load_houses(project: Path | None = None) -> list[House]:
    """Return the shipped houses and those in the project's `houses`; one of the same name replaces a shipped one.

    InputError for a sheet that cannot be read.
    """
    houses = {}
    root = files("zesty_trace") / "data" / "houses"
    for entry in sorted(root.iterdir(), key=lambda e: e.name):
        house = read_house(entry.read_text("utf-8"), entry.name)
        houses[house.name] = house
    for name in names_inside(project, "houses", ".toml") if project else ():
        assert project is not None
        house = read_house(text_of(read_inside(project, f"houses/{name}", "house"), name), name)
        houses[house.name] = house
    return list(houses.values())
