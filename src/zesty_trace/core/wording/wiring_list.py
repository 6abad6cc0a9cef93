"""The design's parts and connections as sentences, one a line: written out, and read back as a whole.

Every line is a sentence that the Say-it line understands too. Reading starts from no parts and says line after line;
what is kept beside parts and nets (brief, places on sheet and board, copper) stays for the parts that are still there.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.wording.sentences import TAIL_WORDS, say
from zesty_trace.core.wording.words import quote
from zesty_trace.errors import InputError, ZestyError

PINS_A_LINE = 5


def write_list(wired: Wired) -> str:
    """Return the wiring list: supplies first, then signals, then the parts themselves."""
    design = wired.design
    lines = ["# Connections: pins = net"]
    rails = [wired.ground, *wired.rails]
    order = [n for n in dict.fromkeys(rails) if n in design.nets]
    for net in [*order, *(n for n in design.nets if n not in order)]:
        pins = [pin_word(wired, p) for p in design.nets[net]]
        lines += [f"{', '.join(pins[k : k + PINS_A_LINE])} = {net}" for k in range(0, len(pins), PINS_A_LINE)]
    if design.not_connected:
        lines += ["", "# Left open on purpose"]
        pins = [pin_word(wired, p) for p in design.not_connected]
        lines += [f"leave {', '.join(pins[k : k + PINS_A_LINE])} open" for k in range(0, len(pins), PINS_A_LINE)]
    if design.parts:
        lines += ["", "# Parts: add reference kind value in package"]
        lines += [line for part in design.parts.values() for line in part_lines(part)]
    return "\n".join(lines) + "\n"


def pin_word(wired: Wired, pin: Pin) -> str:
    """Return a pin as it is said: by its name where that names one pin, else by its number."""
    kind = wired.kind(pin.ref)
    name = next((s.name for s in kind.pins if s.number == pin.number), pin.number)
    found = kind.pin(name)
    plain = found is not None and found.number == pin.number and not set(name) & set(" ,=")
    return f"{pin.ref}.{name if plain else pin.number}"


def part_lines(part: Part) -> Iterator[str]:
    """Yield the sentences that make a part."""
    words = ["add", part.ref, part.kind]
    words += [w if w not in TAIL_WORDS else quote(w, always=True) for w in map(quote, part.value.split())]
    if part.package:
        words += ["in", quote(part.package)]
    if part.variants:
        words += ["only", *part.variants]
    if part.block:
        words += ["block", quote(part.block)]
    if part.notes:
        words += ["note", quote(part.notes, always=True)]
    yield " ".join(words)
    for variant, value in part.values.items():
        yield f"{part.ref} = {value} on {variant}"


def read_list(text: str, wired: Wired) -> Design:
    """Return `design` with its parts, nets and open pins replaced by those of a wiring list.

    Parts may stand anywhere in the text. InputError names the line and the word; nothing is changed then.
    """
    design = wired.design
    rows = [
        (k, line.strip())
        for k, line in enumerate(text.splitlines(), 1)
        if line.strip() and not line.lstrip().startswith("#")
    ]
    adds = [row for row in rows if row[1].lower().startswith("add ")]
    grown = replace(design, parts={}, nets={}, not_connected=())
    for number, line in [*adds, *(row for row in rows if row not in adds)]:
        try:
            grown = say(line, wired.with_design(grown), asks=False)
        except ZestyError as error:
            where = f"line {number}" + (f", “{error.where}”" if error.where else "")
            raise InputError(error.message, where, error.hint, number) from error
    return _tidy(grown)


def _tidy(design: Design) -> Design:
    """Drop what belonged to parts and nets that are gone, and join what a chain had to make up."""
    parts, nets, board = design.parts, design.nets, design.board
    return replace(
        design,
        nets={n: tuple(sorted(p)) for n, p in nets.items()},
        sheet={r: s for r, s in design.sheet.items() if r in parts},
        board=replace(
            board,
            placements={r: p for r, p in board.placements.items() if r in parts},
            tracks=tuple(t for t in board.tracks if t.net in nets),
            vias=tuple(v for v in board.vias if v.net in nets),
            pours=tuple(p for p in board.pours if p.net in nets),
        ),
    )


def line_of(text: str, ref: str = "", net: str = "") -> int | None:
    """Return the number, from 0, of the first line that makes a part or fills a net; None if there is none."""
    for number, line in enumerate(text.splitlines()):
        if ref and line.startswith(f"add {ref} "):
            return number
        if net and line.endswith(f" = {net}"):
            return number
    return None
