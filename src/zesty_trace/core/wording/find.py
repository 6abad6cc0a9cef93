"""Finding parts and nets by what is written on the sheet, or printed on a part."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.catalogue.markings import read_bands, read_chip
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.stated import leading_value
from zesty_trace.errors import InputError

SAME_VALUE = 0.001


@dataclass(frozen=True)
class Found:
    """A part or a net that a search gives: what is written there, and what it matched by."""

    ref: str
    net: str
    text: str


def find(text: str, wired: Wired, most: int = 40) -> list[Found]:
    """Return parts and nets whose reference, name, value, kind or notes hold `text`; exact ones first.

    A resistor is also found by what is printed on it: colour bands in words, or a chip code (IEC 60062).
    """
    design = wired.design
    wanted = text.strip().lower()
    if not wanted:
        return []
    marked = _marked_ohm(wanted)
    scored: list[tuple[int, Found]] = []
    for ref, part in design.parts.items():
        title = wired.kind(ref).title
        said = f"{ref}  {part.value}  {title}" if part.value else f"{ref}  {title}"
        fields = (ref, part.value, title, part.block, part.notes)
        score = min((_score(wanted, field, k) for k, field in enumerate(fields)), default=99)
        ohm = leading_value(part.value) if wired.kind(ref).unit == "Ω" else None
        if marked and ohm and abs(ohm / marked - 1) < SAME_VALUE:
            score = min(score, 5)
        if score < 99:
            scored.append((score, Found(ref, "", said)))
    for net, pins in design.nets.items():
        score = _score(wanted, net, 0)
        if score < 99:
            scored.append((score, Found("", net, f"{net}  net, {len(pins)} pins")))
    return [found for _, found in sorted(scored, key=lambda s: s[0])[:most]]


def _marked_ohm(text: str) -> float | None:
    """Return the resistance that a marking stands for, Ω, or None if it is none."""
    for read in (lambda t: read_bands(t)[0], read_chip):
        try:
            return read(text)
        except InputError:
            continue
    return None


def _score(wanted: str, field: str, rank: int) -> int:
    there = field.lower()
    if there == wanted:
        return rank
    if there.startswith(wanted):
        return 10 + rank
    return 20 + rank if wanted in there else 99
