"""Board houses as price sheets in TOML, shipped (invented) and the user's own. docs/price-sheets.md has every field."""

from __future__ import annotations

import math
import re
import tomllib
from collections.abc import Iterator, Mapping
from functools import cached_property
from importlib.resources import files
from pathlib import Path

import msgspec

from zesty_trace.core.ordering.days import Calendar, calendar_of
from zesty_trace.core.ordering.money import Money, money
from zesty_trace.errors import InputError
from zesty_trace.files import names_inside, read_inside, text_of
from zesty_trace.names import check_text, shorten

ROUNDING_MM = 1e-6
MOST_DAYS, MOST_MONEY, MOST_MM, MOST_PIECES, MOST_ROWS = 365, 1e7, 2000.0, 1_000_000, 200
USUAL_FINISH, USUAL_THICKNESS = "lead-free tin", "1.6"


class SizeStep(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a batch costs up to a size, one price for each quantity."""

    up_to_mm: tuple[float, float]
    per_batch: tuple[float, ...]

    def holds(self, width_mm: float, height_mm: float) -> bool:
        """Whether a board of this size is within the step, turned as it fits."""
        long, short = max(width_mm, height_mm), min(width_mm, height_mm)
        return long <= max(self.up_to_mm) + ROUNDING_MM and short <= min(self.up_to_mm) + ROUNDING_MM


class Extra(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a choice adds: working days, and money once a batch."""

    days: int = 0
    cost: float = 0.0


class Framed(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A stencil in a frame: far larger than most boards."""

    cost: float
    days: int = 0
    width_mm: float = 380.0
    height_mm: float = 280.0
    weight_g: float = 900.0


class Stencil(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A frameless stencil cut near board size, and one in a frame if the house makes them."""

    cost: float
    days: int = 0
    weight_g: float = 60.0
    framed: Framed | None = None


class Express(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A quicker build: the working days that it takes instead, and what it adds."""

    working_days: int
    cost: float


class Freight(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A way to send the parcel: days (working days if `working`), money once and by started kilogram."""

    name: str
    days: int
    cost: float
    working: bool = False
    per_kg: float = 0.0
    up_to_kg: float = 0.0  # 0: any
    days_late: float = 0.0  # how many days later it may be, in one case of ten


class Fee(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Something that is paid once an order."""

    name: str
    cost: float


class House(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, dict=True):
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
    colours: dict[str, Extra]
    stencil: Stencil | None = None
    freight: tuple[Freight, ...]
    thickness: dict[str, Extra] = msgspec.field(default_factory=lambda: {USUAL_THICKNESS: Extra()})
    finishes: dict[str, Extra] = msgspec.field(default_factory=lambda: {USUAL_FINISH: Extra()})
    express: Express | None = None
    fees: tuple[Fee, ...] = ()
    tax_pct: float = 0.0
    duty_pct: float = 0.0
    duty_free_to: float = 0.0
    open_days: str = "mon-fri"
    closed: tuple[str, ...] = ()
    limits: dict[str, float] = {}

    def money(self, amount: float) -> Money:
        """Return one of the sheet's figures as a sum in the house's currency."""
        return money(amount, self.currency)

    @cached_property
    def calendar(self) -> Calendar:
        """When the house works."""
        return calendar_of(self.open_days, self.closed, self.name)

    def makes_size(self, width_mm: float, height_mm: float) -> bool:
        """Whether a board of this size, turned as it fits, is within the largest that the house makes."""
        return SizeStep((self.max_width_mm, self.max_height_mm), ()).holds(width_mm, height_mm)

    def step_for(self, width_mm: float, height_mm: float) -> SizeStep | None:
        """Return the smallest step that holds a board of this size; None if the house makes none so large."""
        if not self.makes_size(width_mm, height_mm):
            return None
        return next((s for s in self.size_steps if s.holds(width_mm, height_mm)), None)


def read_house(text: str, where: str) -> House:
    """Return the price sheet in `text`. InputError with file, line where it is known, and field."""
    try:
        house = msgspec.convert(tomllib.loads(text), House)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError, ValueError, OverflowError, RecursionError) as error:
        raise InputError(f"The price sheet cannot be read: {error}", where, "Mend the field named") from error
    for field, words, hint in _mistakes(house):
        line = _line_of(text, field)
        raise InputError(words, f"{where} line {line}" if line else where, hint)
    _ = house.calendar
    return house


def _line_of(text: str, field: str) -> int:
    """Return the line that names a field of the sheet; 0 if none does."""
    word = re.split(r"[.\s\[]", field)[0]
    for number, line in enumerate(text.splitlines(), 1):
        if re.match(rf"\s*\[*\s*{re.escape(word)}\b", line):
            return number
    return 0


Mistake = tuple[str, str, str]


def _mistakes(house: House) -> Iterator[Mistake]:
    """Yield what no sheet has: (field, what is wrong, what to do)."""
    check_text(house.name, "name", 80)
    if not house.name.strip() or not re.fullmatch(r"[A-Z]{3}", house.currency):
        yield "currency", "A house has a name and a currency of three letters", 'Such as currency = "EUR"'
    rows = (house.quantities, house.layers, house.size_steps, house.colours, house.freight, house.fees)
    if any(len(r) > MOST_ROWS for r in rows):
        yield "quantities", f"A list has more than {MOST_ROWS} entries", "Shorten it"
    if not house.quantities or not house.size_steps or not house.freight:
        yield "quantities", "It needs quantities, size steps and a freight", "Add at least one of each"
    for field, value, low, high in _numbers(house):
        if not (math.isfinite(value) and low <= value <= high):
            yield field, f"{field} = {value:g} cannot be", f"Between {low:g} and {high:g}"
    if list(house.quantities) != sorted(set(house.quantities)):
        yield "quantities", "quantities must rise", "Sort them, each once"
    for k, step in enumerate(house.size_steps):
        if len(step.per_batch) != len(house.quantities):
            words = f"size step {step.up_to_mm} has {len(step.per_batch)} prices for {len(house.quantities)} quantities"
            yield "size_steps", words, "Give one price for each quantity"
        if any(later.holds(*step.up_to_mm) for later in house.size_steps[:k]):
            yield (
                "size_steps",
                f"size step {step.up_to_mm} is never reached: an earlier one holds it",
                "Sort them by size",
            )
    names = [f.name for f in house.freight]
    if len(set(names)) < len(names):
        yield "freight", "Two ways of freight have one name", "Name each once"
    for freight in house.freight:
        check_text(freight.name, "freight", 80)


def _numbers(house: House) -> Iterator[tuple[str, float, float, float]]:
    """Yield every figure of a sheet with its field and limits."""
    yield "setup", house.setup, 0, MOST_MONEY
    yield "working_days", house.working_days, 0, MOST_DAYS
    yield "max_width_mm", house.max_width_mm, 1, MOST_MM
    yield "max_height_mm", house.max_height_mm, 1, MOST_MM
    yield "tax_pct", house.tax_pct, 0, 100
    yield "duty_pct", house.duty_pct, 0, 100
    yield "duty_free_to", house.duty_free_to, 0, MOST_MONEY
    for quantity in house.quantities:
        yield "quantities", quantity, 1, MOST_PIECES
    for step in house.size_steps:
        for size in step.up_to_mm:
            yield "size_steps.up_to_mm", size, 1, MOST_MM
        for price in step.per_batch:
            yield "size_steps.per_batch", price, 0, MOST_MONEY
    for name, factor in house.layers.items():
        yield f"layers.{shorten(name)}", factor, 0, 1000
    for what, extras in (("colours", house.colours), ("thickness", house.thickness), ("finishes", house.finishes)):
        yield from _extras(what, extras)
    if house.express is not None:
        yield "express.working_days", house.express.working_days, 0, MOST_DAYS
        yield "express.cost", house.express.cost, 0, MOST_MONEY
    for fee in house.fees:
        yield "fees.cost", fee.cost, 0, MOST_MONEY
    if house.stencil is not None:
        made = [("stencil", house.stencil.cost, house.stencil.days, house.stencil.weight_g)]
        if house.stencil.framed is not None:
            f = house.stencil.framed
            made.append(("stencil.framed", f.cost, f.days, f.weight_g))
            yield "stencil.framed.width_mm", f.width_mm, 1, MOST_MM
            yield "stencil.framed.height_mm", f.height_mm, 1, MOST_MM
        for field, cost, days, weight in made:
            yield f"{field}.cost", cost, 0, MOST_MONEY
            yield f"{field}.days", days, 0, MOST_DAYS
            yield f"{field}.weight_g", weight, 0, 100_000
    for freight in house.freight:
        field = f"freight {shorten(freight.name)}"
        yield f"{field}: days", freight.days, 0, MOST_DAYS
        yield f"{field}: cost", freight.cost, 0, MOST_MONEY
        yield f"{field}: per_kg", freight.per_kg, 0, MOST_MONEY
        yield f"{field}: up_to_kg", freight.up_to_kg, 0, 10_000
        yield f"{field}: days_late", freight.days_late, 0, MOST_DAYS


def _extras(what: str, extras: Mapping[str, Extra]) -> Iterator[tuple[str, float, float, float]]:
    for name, extra in extras.items():
        yield f"{what}.{shorten(name)}.days", extra.days, 0, MOST_DAYS
        yield f"{what}.{shorten(name)}.cost", extra.cost, 0, MOST_MONEY


def shipped_houses() -> list[House]:
    """Return the invented houses that come with the application."""
    root = files("zesty_trace") / "data" / "houses"
    return [read_house(e.read_text("utf-8"), e.name) for e in sorted(root.iterdir(), key=lambda e: e.name)]


def load_houses(project: Path | None = None) -> list[House]:
    """Return the shipped houses and those in the project's `houses`; one of the same name replaces a shipped one.

    InputError for a sheet that cannot be read.
    """
    houses, wrong = readable_houses(project)
    if wrong:
        raise wrong[0]
    return houses


def readable_houses(project: Path | None = None) -> tuple[list[House], list[InputError]]:
    """Return the houses whose sheets can be read, and what is wrong with the others: one never silences the rest."""
    houses = {h.name: h for h in shipped_houses()}
    wrong = []
    for name in names_inside(project, "houses", ".toml") if project else ():
        assert project is not None
        try:
            house = read_house(text_of(read_inside(project, f"houses/{name}", "house"), name), name)
        except InputError as error:
            wrong.append(error)
            continue
        houses[house.name] = house
    return list(houses.values()), wrong


__all__ = [
    "Express", "Extra", "Fee", "Framed", "Freight", "House", "SizeStep", "Stencil", "load_houses", "read_house",
    "readable_houses", "shipped_houses",
]  # fmt: skip
