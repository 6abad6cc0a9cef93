"""A part of somebody's tables on its way into a design, and what is made of them all."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from zesty_trace.core.catalogue.kind import Kind, PackageSpec
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design, Face, Placement

MANY = 6


@dataclass
class Adopted:
    """The design, the kinds and packages made for it, and what is not known or was taken for granted."""

    design: Design = field(default_factory=Design)
    kinds: dict[str, Kind] = field(default_factory=dict)
    packages: dict[str, PackageSpec] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    nearness: list[str] = field(default_factory=list)
    turned: dict[str, int] = field(default_factory=dict)
    unsure: list[str] = field(default_factory=list)
    unknown_turn: list[str] = field(default_factory=list)
    guessed: list[str] = field(default_factory=list)
    sought: list[str] = field(default_factory=list)
    homeless: list[str] = field(default_factory=list)
    undescribed: list[str] = field(default_factory=list)

    def known(self, base: Catalogue) -> Catalogue:
        """Return a catalogue with the kinds and packages that were made."""
        kinds, packages = {**base.kinds, **self.kinds}, {**base.packages, **self.packages}
        return Catalogue(kinds, packages, base.own | set(self.packages))

    @property
    def turned_in_words(self) -> list[str]:
        """The parts that the table turns otherwise than their pads lie, with by how much."""
        return [f"{ref} by {by / 1000:g}°" for ref, by in self.turned.items()]


@dataclass
class One:
    """A part on its way into the design."""

    ref: str
    value: str = ""
    package: str = ""
    words: str = ""
    fitted: bool = True
    variants: tuple[str, ...] = ()
    spot: Placement | None = None
    pins: dict[str, tuple[int, ...]] = field(default_factory=dict)
    spec: str = ""
    said_mdeg: int | None = None
    also: tuple[int, ...] = ()
    notes: list[str] = field(default_factory=list)


def few(words: Iterable[str]) -> str:
    """Return the first words in order, and how many more there are."""
    listed = sorted(words)
    return ", ".join(listed[:MANY]) + (f" and {len(listed) - MANY} more" if len(listed) > MANY else "")


def face_of(side: str) -> Face:
    """Return a side as one of the two faces."""
    return "bottom" if side == "bottom" else "top"
