"""Does the part in the hand fit its holes or its lands: play, tilt at the worst, and whether legs must be bent."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import NamedTuple

import msgspec

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.catalogue.lands.holes import PLATED_HOLE_TOLERANCE_MM
from zesty_trace.core.catalogue.lands.pattern import LandPattern, Pad
from zesty_trace.errors import InputError

BEND_LIMIT_MM = 1.5  # a leg bends so far before it strains its body: common practice
CROOKED_DEG = 2.0  # a turn that an eye sees: common practice
UNMEASURED = "was not measured"
LOOSE_MM = 0.5  # more play than this and a part no longer stands by itself: common practice


class Measured(msgspec.Struct, frozen=True, kw_only=True):
    """What was measured on the part, mm; 0 was not measured.

    `lead` is a lead's largest width (across the corners of a square one), `pitch` from lead to lead, `rows` between
    two rows of leads or two leads, `over` over the ends of surface terminals, `foot` and `width` of one.
    """

    lead: float = 0.0
    pitch: float = 0.0
    rows: float = 0.0
    over: float = 0.0
    foot: float = 0.0
    width: float = 0.0


class Fit(NamedTuple):
    """How a part sits. `fits` is None where too little was measured to say."""

    fits: bool | None
    sentences: tuple[str, ...]
    play_mm: float | None = None
    bend_mm: float | None = None
    turn_deg: float | None = None
    lean_deg: float | None = None


def check_fit(spec: PackageSpec, measured: Measured, thickness_mm: float = 1.6) -> Fit:
    """Return how the measured part sits on a package's pattern. InputError for what cannot have been measured."""
    for field in msgspec.structs.fields(Measured):
        value = getattr(measured, field.name)
        if not math.isfinite(value) or not 0 <= value < 200:
            raise InputError(f"{field.name} of {value:g} mm cannot be", field.name, "Between 0 and 200 mm")
    pattern = land_pattern(spec)
    holes = [p for p in pattern.pads if p.drill_nm and p.plated and p.number]
    if holes:
        return _in_holes(pattern, holes, measured, thickness_mm, spec.splay)
    return _on_lands(pattern, measured)


def _in_holes(pattern: LandPattern, holes: list[Pad], m: Measured, thickness_mm: float, splay_mm: float) -> Fit:
    if not m.lead:
        return Fit(None, ("Measure the thickest lead: across its corners if it is square.",))
    drill = min(p.drill_nm for p in holes) / 1e6
    least = drill - PLATED_HOLE_TOLERANCE_MM
    play = least - m.lead
    if play < 0:
        text = (
            f"It does not go in: the lead is {m.lead:.2f} mm, the hole of {drill:.2f} mm may come out {least:.2f} mm. "
            f"Drill {m.lead + 0.2:.2f} mm or more."
        )
        return Fit(False, (text,), play_mm=play)
    off_y, off_x, words = _misfit(holes, m, splay_mm)
    off = math.hypot(off_x, off_y)
    bend = max(0.0, off - play / 2)
    loosest = drill + PLATED_HOLE_TOLERANCE_MM - m.lead
    far = _farthest(holes)
    turn = math.degrees(math.atan2(loosest, far)) if far else 90.0
    lean = math.degrees(math.atan2(loosest, thickness_mm))
    said = [f"Play in the tightest hole {play:.2f} mm, in the loosest {loosest:.2f} mm.", *words]
    if bend > 0:
        said.append(f"The outermost leg stands {off:.2f} mm off its hole: bend it by {bend:.2f} mm.")
    elif not any(UNMEASURED in w for w in words):
        said.append("No leg needs to be bent.")
    if far:
        said.append(f"At the worst it sits {turn:.1f}° crooked and {loosest / 2:.2f} mm off its place.")
    if len({(p.x_nm, p.y_nm) for p in holes}) <= 2:
        said.append(f"It can lean by {lean:.0f}° in a board {thickness_mm:g} mm thick: hold it down while soldering.")
    if turn > CROOKED_DEG or loosest > LOOSE_MM:
        said.append("That is loose: use a smaller hole, or a jig.")
    fits: bool | None = bend <= BEND_LIMIT_MM
    if fits and any(UNMEASURED in w for w in words):
        fits = None
    if fits is False:
        said.append(f"A leg bends by about {BEND_LIMIT_MM:g} mm before it strains the part: use another land pattern.")
    return Fit(fits, tuple(said), play, bend, turn, lean)


def _misfit(holes: list[Pad], m: Measured, splay_mm: float) -> tuple[float, float, list[str]]:
    """Return how far the outermost lead stands from its hole along a row and across the rows, and words, mm."""
    xs, ys = sorted({p.x_nm / 1e6 for p in holes}), sorted({p.y_nm / 1e6 for p in holes})
    along, across = (ys, xs) if len(ys) >= len(xs) else (xs, ys)
    words = []
    off_along = off_across = 0.0
    if m.pitch and len(along) > 1:
        pitch = min(b - a for a, b in pairwise(along))
        steps = (along[-1] - along[0]) / pitch
        off_along = abs(m.pitch - pitch) * steps / 2
        if abs(m.pitch - pitch) > 0.005:
            words.append(
                f"Leads every {m.pitch:.2f} mm, holes every {pitch:.2f} mm: {2 * off_along:.2f} mm over the row."
            )
    elif len(along) > 2:
        words.append(f"The pitch {UNMEASURED}, so that row is not checked.")
    wide = across[-1] - across[0] if len(across) > 1 else (along[-1] - along[0] if len(along) == 2 else 0.0)
    if m.rows and wide:
        off_across = abs(m.rows - wide) / 2
        if off_across > 0.005:
            way = "in" if m.rows > wide else "out"
            words.append(f"Legs are {m.rows:.2f} mm apart, their holes {wide:.2f} mm: {off_across:.2f} mm {way} each.")
    elif wide:
        words.append(f"The distance between the legs {UNMEASURED}, so it is not checked.")
        if splay_mm > wide:
            each = (splay_mm - wide) / 2
            words.append(f"New ones come with legs about {splay_mm:g} mm apart: bend them in by {each:.2f} mm each.")
    return off_along, off_across, words


def _farthest(holes: list[Pad]) -> float:
    return max((math.hypot(a.x_nm - b.x_nm, a.y_nm - b.y_nm) for a in holes for b in holes), default=0.0) / 1e6


def _on_lands(pattern: LandPattern, m: Measured) -> Fit:
    """Say what solder a surface part gets at toe, heel and sides."""
    pads = [p for p in pattern.pads if p.number and p.paste]
    over = (max(p.x_nm + p.width_nm / 2 for p in pads) - min(p.x_nm - p.width_nm / 2 for p in pads)) / 1e6
    outer = [p for p in pads if abs(abs(p.x_nm) / 1e6 + p.width_nm / 2e6 - over / 2) < 0.01]
    length, width = outer[0].width_nm / 1e6, outer[0].height_nm / 1e6
    if not m.over:
        return Fit(None, ("Measure the part over the ends of its terminals.",))
    said, good = [], True
    toe = (over - m.over) / 2
    said.append(_fillet("toe", toe, over, "over both ends"))
    good &= toe > 0
    if m.foot:
        heel = (m.over - 2 * m.foot - (over - 2 * length)) / 2
        said.append(_fillet("heel", heel, over - 2 * length, "between the lands"))
        good &= heel > -m.foot / 2
    if m.width:
        side = (width - m.width) / 2
        said.append(_fillet("side", side, width, "across a land"))
        good &= side > -m.width / 4
    pitch_words, pitch_good = _pitch(pads, m)
    said += pitch_words
    if m.foot and toe + m.foot < m.foot / 2:
        said.append("Less than half of a terminal lies on its land: use another land pattern.")
    left = [n for n in ("foot", "width") if not getattr(m, n)]
    if left:
        said.append(f"Not measured, so not checked: {' and '.join(left)}.")
    sure = not left and not any(UNMEASURED in w for w in pitch_words)
    return Fit(False if not (good and pitch_good) else (True if sure else None), tuple(said))


def _fillet(name: str, mm: float, of: float, what: str) -> str:
    if mm < 0:
        return f"No land at the {name}: the terminal reaches {-mm:.2f} mm beyond it ({of:.2f} mm {what})."
    return f"Room for solder at the {name} {mm:.2f} mm ({of:.2f} mm {what})."


def _pitch(pads: list[Pad], m: Measured) -> tuple[list[str], bool]:
    ys = sorted({p.y_nm / 1e6 for p in pads if p.x_nm < 0})
    if len(ys) < 2:
        return [], True
    pitch = min(b - a for a, b in pairwise(ys))
    if not m.pitch:
        return [f"The pitch {UNMEASURED}, so it is not checked."], True
    off = abs(m.pitch - pitch) * round((ys[-1] - ys[0]) / pitch) / 2
    width = min(p.height_nm for p in pads) / 1e6
    good = off <= width / 2
    text = f"The outermost terminal stands {off:.2f} mm off its land of {width:.2f} mm."
    return [text + ("" if good else " It would touch the next one.")], good
