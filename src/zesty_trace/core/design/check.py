"""Is a design whole: names, references, numbers and sizes. Checked when it is read and after every edit.

What passes here can be written, read back and worked on; nothing after it has to look again. What only the catalogue
knows (kinds, packages, pins of a kind) is checked by `catalogue.kinds.check_design_against`.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sized

from zesty_trace.core.design.model import Board, Brief, Design, Part, Pin
from zesty_trace.core.design.references import dangling
from zesty_trace.errors import InputError
from zesty_trace.names import TITLE_MOST, check_name, check_text

FILE = "design.json"
FAR_NM = 2_000_000_000  # two metres
SHEET_UNITS = 2000
MOST = {
    "parts": 5000,
    "nets": 5000,
    "pins": 50_000,
    "variants": 64,
    "states": 400,
    "timeline": 2000,
    "readings": 2000,
    "options": 400,
    "pages": 200,
    "points for the next revision": 5000,
    "images": 200,
    "accepted findings": 20_000,
    "tracks": 200_000,
    "vias": 100_000,
    "corners": 2_000_000,
    "facts": 500,
    "holes of the case": 1000,
}
BRIEF_RANGES = {
    "quantity": (0, 100_000),
    "budget_eur": (0.0, 1e9),
    "supply_v": (-1000.0, 1000.0),
    "supply_limit_a": (0.0, 1000.0),
    "ambient_c": (-100.0, 300.0),
    "humidity_pct": (0.0, 100.0),
    "case_width_nm": (1, FAR_NM),
    "case_height_nm": (1, FAR_NM),
    "case_depth_nm": (1, FAR_NM),
}
RULE_RANGES = {
    "clearance_nm": (1, 10_000_000),
    "track_nm": (1, 50_000_000),
    "least_track_nm": (1, 50_000_000),
    "drill_nm": (1, 20_000_000),
    "annular_nm": (0, 10_000_000),
    "edge_nm": (0, 50_000_000),
    "copper_um": (1.0, 1000.0),
    "inner_um": (1.0, 1000.0),
    "thickness_nm": (10_000, 50_000_000),
    "temperature_rise_c": (0.1, 300.0),
    "mask_margin_nm": (-1_000_000, 5_000_000),
    "mask_web_nm": (0, 5_000_000),
    "hole_gap_nm": (0, 20_000_000),
    "hole_edge_nm": (0, 50_000_000),
    "silk_pen_nm": (10_000, 5_000_000),
    "silk_text_nm": (100_000, 20_000_000),
    "via_nm": (100_000, 20_000_000),
    "via_drill_nm": (50_000, 20_000_000),
}


def check_design(design: Design, before: Design | None = None) -> None:
    """Refuse a design that is not whole. InputError with the field at fault and what is allowed there.

    With `before`, a design that passed, only what differs from it is looked at.
    """
    _check_head(design)
    if before is None or design.brief is not before.brief:
        _check_brief(design.brief)
    parts_moved = before is None or design.parts is not before.parts
    if before is None or parts_moved or design.variants is not before.variants:
        _check_parts(design)
    if (
        parts_moved
        or before is None
        or design.nets is not before.nets
        or design.not_connected is not before.not_connected
    ):
        _check_wiring(design)
    if parts_moved or before is None or design.board is not before.board or design.sheet is not before.sheet:
        _check_board(design)
    _check_rest(design)


def _number(value: float, low: float, high: float, where: str) -> None:
    if not low <= value <= high or (isinstance(value, float) and not math.isfinite(value)):
        raise InputError(f"{str(value)[:40]} is out of range", f"{FILE}, {where}", f"Between {low:g} and {high:g}")


def _count(found: Sized, what: str) -> None:
    if len(found) > MOST[what]:
        raise InputError(f"There are {len(found):,} {what}", FILE, f"At most {MOST[what]:,}")


def _known(ref: str, parts: dict[str, Part], where: str) -> None:
    if ref not in parts:
        raise InputError(
            f"It names {ref or 'nothing'}, which is not a part", f"{FILE}, {where}", "Add the part, or take it out here"
        )


def _check_head(design: Design) -> None:
    if not design.name.strip():
        raise InputError("The board needs a name", f"{FILE}, name", "Type one or more letters")
    check_text(design.name, f"{FILE}, name", TITLE_MOST)
    check_name(design.revision, "revision", f"{FILE}, revision")
    _count(design.variants, "variants")
    for name in design.variants:
        check_name(name, "variant", f"{FILE}, variants")
    folded = [v.lower() for v in design.variants]
    twice = next((v for v in folded if folded.count(v) > 1), None)
    if twice is not None:
        raise InputError(f"Two variants are called {twice}", f"{FILE}, variants", "Capitals do not tell them apart")
    _variant(design.build.variant, design, "build")
    for said in (design.build.colour, design.build.finish):
        check_text(said, f"{FILE}, build", 40)
    for variant, count in design.build.batch.items():
        _variant(variant, design, "build.batch")
        _number(count, 0, 100_000, f"build.batch.{variant}")
    _number(design.build.spare_boards, 0, 100_000, "build.spare_boards")
    _number(design.build.oven_power_w, 100.0, 10_000.0, "build.oven_power_w")
    _number(design.build.oven_litres, 1.0, 500.0, "build.oven_litres")
    for package, added in design.build.centroid.added_deg.items():
        check_name(package, "package", f"{FILE}, build.centroid")
        _number(added, -360.0, 360.0, f"build.centroid.added_deg.{package}")


def _variant(name: str, design: Design, where: str) -> None:
    if name and name not in design.variants:
        known = ", ".join(design.variants) or "none"
        raise InputError(f"There is no variant {name}", f"{FILE}, {where}", f"Known: {known}")


def _check_brief(brief: Brief) -> None:
    for field, (low, high) in BRIEF_RANGES.items():
        _number(getattr(brief, field), low, high, f"brief.{field}")
    for field in ("purpose", "needed_by", "options_wanted"):
        check_text(getattr(brief, field), f"{FILE}, brief.{field}")
    _count(brief.facts, "facts")
    for key, text in brief.facts.items():
        check_text(key, f"{FILE}, brief.facts", 200)
        check_text(text, f"{FILE}, brief.facts.{key}")
    _count(brief.template, "holes of the case")
    for hole in brief.template:
        check_name(hole.ref, "reference", f"{FILE}, brief.template")
        for value in (hole.x_nm, hole.y_nm, hole.angle_mdeg):
            _number(value, -FAR_NM, FAR_NM, f"brief.template.{hole.ref}")
        for value in (hole.tolerance_nm, hole.hole_nm):
            _number(value, 0, FAR_NM, f"brief.template.{hole.ref}")
        _number(hole.turn_mdeg, 0, 360_000, f"brief.template.{hole.ref}.turn_mdeg")


def _check_parts(design: Design) -> None:
    _count(design.parts, "parts")
    for ref, part in design.parts.items():
        where = f"parts.{ref}"
        check_name(ref, "reference", f"{FILE}, parts")
        if part.ref != ref:
            raise InputError(f"The part calls itself {part.ref}", f"{FILE}, {where}", "Give both the same reference")
        check_name(part.kind, "kind", f"{FILE}, {where}.kind")
        if part.package:
            check_name(part.package, "package", f"{FILE}, {where}.package")
        for text in (part.value, part.block, *part.values.values()):
            check_text(text, f"{FILE}, {where}", 200)
        check_text(part.notes, f"{FILE}, {where}.notes")
        _number(part.raised_nm, 0, 200_000_000, f"{where}.raised_nm")
        for variant in (*part.variants, *part.values):
            _variant(variant, design, where)


def _check_wiring(design: Design) -> None:
    _count(design.nets, "nets")
    seen: dict[Pin, str] = {}
    for net, pins in design.nets.items():
        check_name(net, "net name", f"{FILE}, nets")
        for pin in pins:
            _known(pin.ref, design.parts, f"nets.{net}")
            check_name(pin.number, "pin number", f"{FILE}, nets.{net}")
            if pin in seen:
                raise InputError(f"{pin} stands on {seen[pin]} too", f"{FILE}, nets.{net}", "Keep it on one net")
            seen[pin] = net
    _count(seen, "pins")
    for pin in design.not_connected:
        _known(pin.ref, design.parts, "not_connected")
        if pin in seen:
            raise InputError(f"{pin} is on {seen[pin]}", f"{FILE}, not_connected", "Take it out of one of the two")


def _check_given(board: Board) -> None:
    if board.given:
        check_name(board.given, "file name", f"{FILE}, board.given")
        if board.tracks or board.vias or board.pours:
            hint = "Take out one of the two"
            raise InputError("The board has copper of its own and that of given files", f"{FILE}, board.given", hint)


def _check_board(design: Design) -> None:
    board: Board = design.board
    _check_given(board)
    for field, (low, high) in RULE_RANGES.items():
        _number(getattr(board.rules, field), low, high, f"board.rules.{field}")
    _points(board.outline, "board.outline")
    if board.outline and len(set(board.outline)) < 3:
        raise InputError("The outline has fewer than three corners", f"{FILE}, board.outline", "Draw it again")
    for ref, spot in board.placements.items():
        _known(ref, design.parts, "board.placements")
        for value in (spot.x_nm, spot.y_nm, spot.angle_mdeg):
            _number(value, -FAR_NM, FAR_NM, f"board.placements.{ref}")
    _count(board.tracks, "tracks")
    _count(board.vias, "vias")
    if sum(len(t.points) for t in board.tracks) > MOST["corners"]:
        raise InputError("The tracks have too many corners", f"{FILE}, board.tracks", f"At most {MOST['corners']:,}")
    for k, track in enumerate(board.tracks):
        _number(track.width_nm, 1, 100_000_000, f"board.tracks[{k}].width_nm")
        if len(track.points) < 2:
            raise InputError(
                "A track has two points or more", f"{FILE}, board.tracks[{k}]", "Take it out, and route again"
            )
        _points(track.points, f"board.tracks[{k}]")
    for k, via in enumerate(board.vias):
        _number(via.diameter_nm, 1, 50_000_000, f"board.vias[{k}].diameter_nm")
        _number(via.drill_nm, 1, via.diameter_nm, f"board.vias[{k}].drill_nm")
        _points(((via.x_nm, via.y_nm),), f"board.vias[{k}]")
    for net in {*(t.net for t in board.tracks), *(v.net for v in board.vias), *(p.net for p in board.pours)}:
        check_name(net, "net name", f"{FILE}, board")
    for ref, place in design.sheet.items():
        check_name(ref, "reference", f"{FILE}, sheet")
        for value in (place.x, place.y):
            _number(value, -SHEET_UNITS, SHEET_UNITS, f"sheet.{ref}")


def _points(points: Iterable[tuple[int, int]], where: str) -> None:
    flat = [value for point in points for value in point]
    if flat and not (min(flat) >= -FAR_NM and max(flat) <= FAR_NM):
        raise InputError("A point is more than 2 m away", f"{FILE}, {where}", "Lengths are nanometres")


def _check_rest(design: Design) -> None:
    texts: list[tuple[str, str]] = []
    for what, found in (
        ("states", design.states),
        ("timeline", design.timeline),
        ("readings", design.measured),
        ("options", design.options),
        ("pages", design.pages),
        ("points for the next revision", design.changes),
        ("images", design.images),
        ("accepted findings", design.accepted),
    ):
        _count(found, what)
    for image in design.images:
        check_name(image.file, "file name", f"{FILE}, images")
        check_name(image.target, "kind", f"{FILE}, images")
        _variant(image.variant, design, f"images.{image.file}")
        _number(image.base_address, 0, 0xFFFFFFFF, f"images.{image.file}.base_address")
    for state in design.states:
        texts.append((state.name, "states"))
        if state.supply_v is not None:
            _number(state.supply_v, -1000.0, 1000.0, f"states.{state.name}.supply_v")
        if state.cell_pct is not None:
            _number(state.cell_pct, 0.0, 100.0, f"states.{state.name}.cell_pct")
    for number, moment in enumerate(design.timeline, 1):
        texts.append((moment.state, "timeline"))
        _number(moment.seconds, 1e-9, 1e9, f"timeline step {number}")
    for reading in design.measured:
        texts += [(reading.where, "measured"), (reading.state, "measured")]
        _number(reading.value, -1e6, 1e6, f"measured.{reading.where}")
        _number(reading.tolerance_pct, 0.0, 100.0, f"measured.{reading.where}.tolerance_pct")
    texts += [(t, "options") for o in design.options for t in (o.name, o.switch, *o.refs, *o.needs)]
    texts += [(t, "pages") for page in design.pages for t in (page.name, *page.blocks)]
    for text, where in texts:
        check_text(text, f"{FILE}, {where}", 200)
    for note in design.changes:
        check_text(note.text, f"{FILE}, changes")
    _check_accepted(design)
    for where, name in dangling(design):
        raise InputError(
            f"It names {name}, which is not there", f"{FILE}, {where}", "Add what is named, or take it out here"
        )


def _check_accepted(design: Design) -> None:
    for item in design.accepted:
        for text, most in (
            (item.rule, 200),
            (item.which, 400),
            (item.reason, 20_000),
            (item.when, 40),
            (item.unit, 40),
        ):
            check_text(text, f"{FILE}, accepted", most)
        for number in (item.value, item.limit):
            if number is not None:
                _number(number, -1e15, 1e15, "accepted")
