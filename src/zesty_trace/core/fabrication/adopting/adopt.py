"""A design out of a finished set with its tables: parts, places, outline, and the nets that are in the copper.

The copper itself stays in the files: they are what is ordered. Whatever could not be told is said in `notes`.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.design.model import Board, Brief, Build, Design, Part, Rules
from zesty_trace.core.fabrication.adopting.coming import Adopted, One, few
from zesty_trace.core.fabrication.adopting.matching import Ground, is_via
from zesty_trace.core.fabrication.adopting.naming import (
    kind_of,
    own_kind,
    packages_named,
)
from zesty_trace.core.fabrication.adopting.nets import nets_of
from zesty_trace.core.fabrication.adopting.origin import give_places
from zesty_trace.core.fabrication.adopting.seating import (
    take_by_pattern,
    take_by_search,
    take_named,
    take_nearest,
    take_test_pads,
)
from zesty_trace.core.fabrication.adopting.set_pads import SetPad, pads_of
from zesty_trace.core.fabrication.adopting.tables_in import Bought, Spots
from zesty_trace.core.fabrication.adopting.turning import settle_turns
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.fabrication.looking.tracing import Copper
from zesty_trace.core.geometry import Point
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import nm, say_count
from zesty_trace.errors import Cancelled, InputError
from zesty_trace.names import is_name

LAYERS = (1, 2, 4)


def adopt(
    board: BoardSet,
    boms: Mapping[str, list[Bought]],
    spots: Spots | None,
    catalogue: Catalogue,
    name: str,
    given: str,
    report: Report = quiet,
) -> Adopted:
    """Return the design in a finished set. `boms` has variant -> bill of materials; `given` is the zip's name.

    InputError for a set without a closed outline, or with a count of layers that boards here cannot have; Cancelled.
    """
    found = Adopted()
    _refuse(board)
    _step(report, 0.1, "tracing the copper")
    copper = Copper(board)
    pads = pads_of(board, copper)
    parts = _parts(boms, found)
    if spots is not None:
        give_places(parts, spots, board, pads, catalogue, found)
    _step(report, 0.4, "laying land patterns on the pads")
    ground = Ground(pads)
    take_named(parts, ground, catalogue, found)
    take_by_pattern(parts, ground, catalogue, found)
    _step(report, 0.7, "looking for parts that no table places")
    take_by_search(parts, ground, catalogue, found)
    take_nearest(parts, ground, catalogue, found)
    take_test_pads(board, parts, ground, catalogue, found)
    settle_turns(parts, ground, catalogue, found)
    _step(report, 0.9, "naming nets")
    variants = tuple(boms) if len(boms) > 1 else ()
    design = _design(parts, catalogue, found, name, variants)
    nets, free = nets_of(board, copper, pads, parts, found, {**catalogue.kinds, **found.kinds}, design)
    found.design = replace(design, nets=nets, not_connected=free, board=_board(board, parts, design, given))
    _say(found, parts, pads, ground)
    return found


def _step(report: Report, share: float, text: str) -> None:
    if not report(share, text):
        raise Cancelled


def _refuse(board: BoardSet) -> None:
    if board.broken:
        name, reason = next(iter(board.broken.items()))
        raise InputError(f"{name} cannot be read: {reason}", name, "Mend the file, or take it out of the zip")
    if board.edges.board is None or board.edges.boards != 1:
        what = "no closed outline" if board.edges.board is None else f"{board.edges.boards} boards"
        raise InputError(f"The files have {what}", "outline", "A project is of one board with a closed edge")
    if len(board.layers) not in LAYERS:
        raise InputError(
            f"The files have {say_count(len(board.layers), 'layer')} of copper", "files",
            "Boards of one, two and four layers can be made a project; others can be looked at and compared",
        )  # fmt: skip


def _parts(boms: Mapping[str, list[Bought]], found: Adopted) -> dict[str, One]:
    parts: dict[str, One] = {}
    for variant, rows in boms.items():
        for row in rows:
            one = parts.setdefault(row.ref, One(row.ref, row.value, row.package, row.words, fitted=False))
            if (one.value, one.package) != (row.value, row.package):
                found.notes.append(
                    f"{row.ref} is {one.value} {one.package} in one table, {row.value} {row.package} in another: "
                    "the first counts"
                )
            if row.fitted:
                one.fitted = True
                one.variants = (*one.variants, variant)
    for one in parts.values():
        if len(one.variants) == len(boms):
            one.variants = ()
    off = sorted(r for r, p in parts.items() if not p.fitted)
    if off:
        found.notes.append(f"Not fitted by the bill of materials, and left out: {few(off)}")
    return {r: p for r, p in parts.items() if p.fitted}


def _design(
    parts: dict[str, One], catalogue: Catalogue, found: Adopted, name: str, variants: tuple[str, ...]
) -> Design:
    """Return the design with its parts, each of a kind of the catalogue or of one made for it."""
    known = found.known(catalogue)
    made: dict[str, Part] = {}
    for one in parts.values():
        ref = _reference(one, made, found)
        package = one.spec or next(iter(packages_named(one.package, one.ref, catalogue)), "")
        if not package:
            found.homeless.append(one.ref)
            continue
        kind = kind_of(one.ref, one.value, one.words, package, known)
        value = one.value
        if not kind:
            numbers = [n for n in dict.fromkeys(p.number for p in land_pattern(known.packages[package]).pads) if n]
            own = own_kind(one.ref, one.value, one.words, package, numbers, known, found.kinds)
            found.kinds[own.id] = own
            kind = own.id
            found.undescribed.append(one.ref)
        made[ref] = Part(
            ref=ref, kind=kind, value=value, package=package, variants=one.variants, notes=". ".join(one.notes)
        )
    return Design(name=name, parts=made, variants=variants, build=Build(variant=variants[0] if variants else ""))


def _reference(one: One, made: Mapping[str, Part], found: Adopted) -> str:
    """Return a part's reference, or one that may stand here in its place."""
    ref = one.ref
    if not is_name(ref, "reference") or ref in made:
        letter = "".join(c for c in ref if c.isalpha() and c.isascii()).upper()[:3] or "X"
        ref = next(f"{letter}{k}" for k in range(1, 10_000) if f"{letter}{k}" not in made)
        found.notes.append(f"{one.ref} cannot be a reference here: it is called {ref}")
        one.ref = ref
    return ref


def _ring(ring: object) -> tuple[Point, ...]:
    coords = list(ring.coords)[:-1]  # type: ignore[attr-defined]
    return tuple(Point(nm(x), nm(y)) for x, y in coords)


def _board(board: BoardSet, parts: dict[str, One], design: Design, given: str) -> Board:
    from shapely import get_parts
    from shapely.geometry.polygon import orient

    shape = orient(get_parts(board.edges.board)[0])
    count = len(board.layers)
    rules = Rules(layers=4 if count == 4 else 1 if board.layers == ["bottom"] else 2)
    return Board(
        outline=_ring(shape.exterior),
        cutouts=tuple(_ring(r) for r in shape.interiors),
        placements={p.ref: p.spot for p in parts.values() if p.spot is not None and p.ref in design.parts},
        rules=rules,
        given=given,
    )


# What is said of parts that a list of `Adopted` holds, in this order.
SAID = (
    ("turned_in_words", "The table turns these otherwise than their pads lie, and was corrected: {}"),
    (
        "unknown_turn",
        "Which way round these are is NOT KNOWN, for the table's turn does not fit their pads, or those of others like "
        "them: {}. Look for the mark of pin 1 on the board, and turn them by 180° where it is at the other end",
    ),
    ("unsure", "Pads alone cannot tell which way round these are; the table's turn counts: {}"),
    ("guessed", "No package is named that is known; told from the pads: {}"),
    ("sought", "In no table of places, and found by their pads: {}. Their pin 1 may be at the other end"),
    (
        "nearness",
        "No land pattern of the catalogue fits these: they were given the free pads nearest to them, and numbers from "
        "the upper left on: {}",
    ),
    ("undescribed", "What these do is not described here, so nothing of it is checked or predicted: {}"),
    ("homeless", "Left out, for neither their package nor their pads are known: {}"),
)


def _say(found: Adopted, parts: dict[str, One], pads: list[SetPad], ground: Ground) -> None:
    """Add what somebody has to know of the whole, and set what the brief can know."""
    design, notes = found.design, found.notes
    for name, words in SAID:
        if refs := getattr(found, name):
            notes.append(words.format(few(refs)))
    lost = [p.ref for p in parts.values() if p.ref in design.parts and p.ref not in design.board.placements]
    if lost:
        notes.append(f"In no table of places, and not found by their pads: {few(lost)}. They are to be placed by hand")
    bare = [r for r, p in parts.items() if p.ref in design.board.placements and not p.pins]
    if bare:
        notes.append(f"No pads of their own at their place: {few(bare)}")
    free = [k for k, p in enumerate(pads) if k not in ground.taken and not is_via(p)]
    if free:
        notes.append(f"Pads of the files that belong to no part of the tables: {len(free)}")
    xs, ys = zip(*design.board.outline, strict=True)
    brief = Brief(
        purpose=f"Made from the files {design.board.given}",
        case_width_nm=max(xs) - min(xs),
        case_height_nm=max(ys) - min(ys),
    )
    found.design = replace(design, brief=brief)
