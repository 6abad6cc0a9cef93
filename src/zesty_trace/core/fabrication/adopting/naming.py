"""What a part of somebody's table is: its package and its kind in our catalogue, or one made from its pads."""

from __future__ import annotations

import re
from collections.abc import Sequence

from zesty_trace.core.catalogue.kind import Kind, PackageSpec, PadRow, PinSpec
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.catalogue.lands.own import body_of
from zesty_trace.core.catalogue.models import Open
from zesty_trace.core.catalogue.shelf import search
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.names import shorten, slug

UNKNOWN_HEIGHT_MM = 1.0
ROUNDING_MM = 0.02
# Letters that begin references, and those of our kinds: common practice (IEEE 315 from memory).
LETTERS = {
    "CN": "J", "CON": "J", "P": "J", "X": "J", "IC": "U", "T": "Q", "TR": "Q", "VT": "Q", "S": "SW", "BTN": "SW",
    "LED": "D", "Z": "D", "VR": "RV", "POT": "RV", "XTAL": "Y", "MH": "H", "FID": "FD", "RT": "TH", "NTC": "TH",
}  # fmt: skip
BY_LETTER = {
    "R": ("resistor",), "C": ("ceramic_capacitor", "electrolytic_capacitor", "tantalum_capacitor", "film_capacitor"),
    "L": ("inductor",), "FB": ("ferrite_bead",), "F": ("polyfuse", "fuse"), "Y": ("crystal",), "TP": ("test_point",),
    "H": ("mounting_hole",), "FD": ("fiducial",), "RV": ("potentiometer",), "TH": ("thermistor",), "SW": ("button",),
}  # fmt: skip
# Sizes in tenths of a millimetre and in hundredths of an inch: IPC-7351B names, EIA codes.
METRIC = {"1005": "0402", "1608": "0603", "2012": "0805", "3216": "1206", "3225": "1210", "4532": "1812",
          "5025": "2010", "6332": "2512"}  # fmt: skip
CHIPS = {"0402", "0603", "0805", "1206", "1210", "1812", "2010", "2512"}


def letters_of(ref: str) -> str:
    """Return the letters by which our catalogue would call this part."""
    word = re.sub(r"[^A-Za-z].*", "", ref).upper()
    return LETTERS.get(word, word)


def packages_named(said: str, ref: str, catalogue: Catalogue) -> list[str]:
    """Return packages of the catalogue that a name may mean, the likeliest first."""
    letter = letters_of(ref)
    plain = re.sub(r"[^a-z0-9]+", "-", said.lower()).strip("-")
    by_plain = {re.sub(r"[^a-z0-9]+", "-", p.lower()): p for p in catalogue.packages}
    if plain in by_plain:
        return [by_plain[plain]]
    found = []
    size = next((m for m in re.findall(r"(?<!\d)(\d{4})(?!\d)", plain) if m in CHIPS), "")
    size = size or next((METRIC[m] for m in re.findall(r"(?<!\d)(\d{4})", plain) if m in METRIC), "")
    if size:
        led = "led" in plain or "led" in ref.lower()
        prefixes = ("LED",) if led else (letter, "R", "C", "L", "LED") if letter != "D" else ("LED",)
        found += [f"{p}{size}" for p in prefixes if f"{p}{size}" in catalogue.packages]
    whole = [
        p for w, p in by_plain.items() if len(w) > 3 and re.search(rf"(?<![a-z0-9]){re.escape(w)}(?![0-9])", plain)
    ]
    joined = re.compile(r"(?<=[a-z])-(?=\d)")  # sot-23 is also written sot23
    squeezed = joined.sub("", plain)
    inside = [p for w, p in by_plain.items() if len(w) > 4 and re.search(rf"{joined.sub('', w)}(?![0-9])", squeezed)]
    found += [*sorted(whole, key=lambda p: -len(p)), *sorted(inside, key=lambda p: -len(p))]
    return list(dict.fromkeys(found))


def packages_of_letter(ref: str, catalogue: Catalogue) -> list[str]:
    """Return the packages of all kinds whose references begin with the same letters."""
    letter = letters_of(ref)
    return list(dict.fromkeys(p for k in catalogue.kinds.values() if k.prefix == letter for p in k.packages))


def kind_of(ref: str, value: str, words: str, package: str, catalogue: Catalogue) -> str:
    """Return the kind of the catalogue that a part is; "" where it is not sure."""
    numbers = {p.number for p in land_pattern(catalogue.packages[package]).pads if p.number}

    def fits(kind: Kind) -> bool:
        pins = {p.number for p in kind.pins}
        held = package in catalogue.packages_for(kind) or (pins == numbers and package in catalogue.own)
        return held and pins <= numbers and value_problem(kind, value) is None

    letter = letters_of(ref)
    for text in (words, value):
        same = [k for k in catalogue.kinds.values() if text and k.title.lower() == text.lower() and fits(k)]
        if len(same) == 1:
            return same[0].id
    said = f"{words} {value}".strip()
    if letter == "D" and (package.startswith("LED") or re.search(r"\bled\b", said, re.I)):
        led = [k for k in ("led", "led_through_hole", "led_side", "led_reverse") if fits(catalogue.kinds[k])]
        return led[0] if led else ""
    if letter == "J" and re.fullmatch(r"Header-\d+x\d+", package):
        named = [f"header_{package[7:].removeprefix('1x')}", f"header_{package[7:]}"]
        return next((n for n in named if n in catalogue.kinds and fits(catalogue.kinds[n])), "")
    names = BY_LETTER.get(letter, ())
    said_so = [n for n in names if re.search(rf"\b{n.split('_')[0]}", said, re.I) and fits(catalogue.kinds[n])]
    able = said_so or [n for n in names if fits(catalogue.kinds[n])]
    if able and (len(able) == 1 or package not in catalogue.own):
        return able[0]
    for text in (words, said):
        near = [k for k in search(catalogue, text) if k.prefix == letter and fits(k)] if len(text) > 4 else []
        if len(near) == 1:
            return near[0].id
    return ""


def own_package(name: str, rows: list[PadRow], catalogue: Catalogue, made: dict[str, PackageSpec]) -> PackageSpec:
    """Return a package with these pads: one that was made already for the same ones, or a new one named after it."""
    for spec in made.values():
        if _alike(spec.pads, rows):
            return spec
    base = f"{slug(name, 'part')[:40]}-of-files"
    known = {*catalogue.packages, *made}
    fresh = next(n for n in (base, *(f"{base}-{k}" for k in range(2, 10_000))) if n not in known)
    return PackageSpec(
        id=fresh, family="table", height=UNKNOWN_HEIGHT_MM, pads=tuple(rows), **body_of(rows, (0.0, 0.0))
    )


def _alike(pads: Sequence[PadRow], rows: Sequence[PadRow]) -> bool:
    """Whether pads are the same but for the rounding of files."""

    def sizes(row: PadRow) -> tuple[float, ...]:
        return row.x, row.y, row.width, row.height, row.drill, row.slot

    return len(pads) == len(rows) and all(
        (p.number, p.shape, p.plated) == (r.number, r.shape, r.plated)
        and all(abs(a - b) <= ROUNDING_MM for a, b in zip(sizes(p), sizes(r), strict=True))
        for p, r in zip(pads, rows, strict=True)
    )


def own_kind(
    ref: str, value: str, words: str, package: str, numbers: list[str], catalogue: Catalogue, made: dict[str, Kind]
) -> Kind:
    """Return a kind of which nothing is known but its pads."""
    title = shorten(words or value or package, 80)
    base = f"of_files_{slug(value or words or package, 'part').replace('-', '_')[:40]}"
    pins = tuple(PinSpec(n, n, "passive") for n in numbers)
    for k in range(1, 10_000):
        name = base if k == 1 else f"{base}_{k}"
        if name in made and made[name].pins == pins and package in made[name].packages:
            return made[name]
        if name not in catalogue.kinds and name not in made:
            prefix = letters_of(ref)[:3] or "U"
            return Kind(
                id=name, title=f"{title}: what it does is not described", prefix=prefix, packages=(package,), pins=pins,
                model=Open(), connector=prefix == "J",
            )  # fmt: skip
    raise AssertionError("ten thousand kinds of one name")
