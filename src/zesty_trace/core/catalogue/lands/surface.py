"""Surface-mount families: chips, moulded parts, gull wings, J leads, parts without leads, balls, castellations."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import cast

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.lands.ipc7351 import GOALS, Density, Goals, Lands, Span, ball_land, lands, turned
from zesty_trace.core.catalogue.lands.pattern import (
    LandPattern,
    Line,
    Pad,
    bare_hole,
    clear_of,
    finish,
    mark_beside,
    pad,
    rect,
)
from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import nm

FINE_PITCH_MM = 0.625  # gull wings below it get a smaller side fillet: IPC-7351B, tables 3-2 and 3-3
SMALL_CHIP_MM = 1.55  # chips below 1608 get smaller fillets: IPC-7351B, tables 3-5 and 3-6
LEAST_GAP_MM = 0.2  # between two lands, and between lands and the pad below the body: common practice
PASTE_SHARE = 0.65  # of a pad below the body: 50 to 80 % is common practice (IPC-7525 leaves it to the maker)
LARGEST_WINDOW_MM = 2.0
BETWEEN_WINDOWS_MM = 0.3
BALL_ROWS = "ABCDEFGHJKLMNPRTUVWY"  # letters that cannot be taken for another one, then AA (JEDEC, from memory)


def middle(limits: Sequence[float]) -> float:
    """Return the middle of two limits."""
    return (limits[0] + limits[1]) / 2


def goals_of(spec: PackageSpec) -> Goals:
    """Return the fillets for the terminals of a part. KeyError for a form or a density that there is not."""
    form = spec.form or ("gull wing" if spec.family in ("gull", "quad", "tab") else "chip")
    if form == "gull wing" and spec.pitch and spec.pitch <= FINE_PITCH_MM:
        form = "fine gull wing"
    elif form == "chip" and middle(spec.length) < SMALL_CHIP_MM:
        form = "small chip"
    elif form == "can":
        form = "can up to 10 mm" if spec.height <= 10 else "can over 10 mm"
    goals = GOALS[form][cast(Density, spec.density)]
    return turned(goals) if form in ("inward L", "J lead") else goals


def lands_of(spec: PackageSpec, along_y: bool = False) -> Lands:
    """Return the lands across one way of a part."""
    over = spec.length_y if along_y and spec.length_y[1] else spec.length
    return lands(Span(*over), Span(*spec.foot), Span(*spec.width), goals_of(spec))


def narrowed(width: float, pitch: float) -> float:
    """Return the width of lands in a row, less where they would be too near each other."""
    return min(width, round(pitch - LEAST_GAP_MM, 3)) if pitch else width


def chip(s: PackageSpec) -> LandPattern:
    """Two terminals, pin 1 on the left; that of a polar part has a bar beside it."""
    land = lands_of(s) if s.length[1] else Lands(s.span, s.pad[0], s.pad[1])
    x, size = land.across / 2, (land.length, land.width)
    pads = [pad("1", -x, 0, size), pad("2", x, 0, size)]
    if s.drill:
        pads.append(bare_hole(0, 0, s.drill))
    body = rect(*(s.body if s.body != (1.0, 1.0) or not s.length[1] else (middle(s.length), middle(s.width))))
    edge = max(body.height, land.width) / 2 + 0.2
    gap = land.between / 2 - 0.15
    if body.height > land.width + 0.5:
        silk = clear_of(body.grown(0.12), pads)
    else:
        silk = [((-gap, edge), (gap, edge)), ((-gap, -edge), (gap, -edge))] if gap > 0.1 else []
    if s.polar:
        bar = min(-land.over / 2, body.x0) - 0.25
        silk = [*silk, ((bar, -edge), (bar, edge))]
    mark = (min(-land.across / 2, body.x0), edge + 0.25) if s.polar else None
    excess = goals_of(s).courtyard if s.length[1] else 0.25
    return finish(s, pads, body, mark, silk, excess)


def column(numbers: Iterable[str], x: float, pitch: float, size: tuple[float, float], down: bool = True) -> list[Pad]:
    """Return a column of pads about the middle, the first one at the top or, not `down`, at the bottom."""
    names = list(numbers)
    top = (len(names) - 1) * pitch / 2 * (1 if down else -1)
    step = -pitch if down else pitch
    return [pad(n, x, top + k * step, size) for k, n in enumerate(names)]


def gull(s: PackageSpec) -> LandPattern:
    """Two columns of terminals, numbered down the left and up the right."""
    left, right = s.sides if len(s.sides) == 2 else (s.count // 2, s.count - s.count // 2)
    low, high = s.pitches if len(s.pitches) == 2 else (s.pitch, s.pitch)
    land = lands_of(s) if s.length[1] else Lands(s.span, s.pad[0], s.pad[1])
    names = list(s.numbers) or [str(k + 1) for k in range(left + right)]
    tight = min((p for p, n in ((low, left), (high, right)) if n > 1), default=0.0)
    size = (land.length, narrowed(land.width, tight))
    pads = column(names[:left], -land.across / 2, low, size)
    wide = size
    if s.tab[1]:
        wide = (land.length, lands(Span(*s.length), Span(*s.foot), Span(*s.tab), goals_of(s)).width)
    pads += column(names[left : left + right], land.across / 2, high, wide, down=False)
    below = centre_pads(s, str(left + right + 1), land.between, s.body[1])
    return _with_body(s, [*pads, *below[0]], below[1])


def _with_body(s: PackageSpec, pads: list[Pad], windows: list[Pad]) -> LandPattern:
    w, h = s.body
    body = rect(w, h)
    excess = goals_of(s).courtyard if s.length[1] else 0.25
    silk = clear_of(body.grown(0.12), pads)
    mark = mark_beside(pads[0], body, pads)
    return finish(s, pads, body, mark, silk, excess, windows)


def centre_pads(s: PackageSpec, number: str, room_x: float, room_y: float) -> tuple[list[Pad], list[Pad]]:
    """Return the pad below the body and the windows of its paste; both empty without one.

    It leaves a gap to the lands; PASTE_SHARE of it is pasted, in windows no larger than LARGEST_WINDOW_MM.
    """
    w, h = s.centre
    if not w or not h:
        return [], []
    w, h = min(w, room_x - 2 * LEAST_GAP_MM), min(h, room_y - 2 * LEAST_GAP_MM)
    under = pad(s.tab_number or number, 0, 0, (w, h))._replace(paste=False)
    columns, rows = (max(1, math.ceil(v / (LARGEST_WINDOW_MM + BETWEEN_WINDOWS_MM))) for v in (w, h))
    share = math.sqrt(PASTE_SHARE)
    size = (round(w / columns * share, 3), round(h / rows * share, 3))
    windows = [
        pad(under.number, w * ((c + 0.5) / columns - 0.5), h * ((r + 0.5) / rows - 0.5), size)
        for r in range(rows)
        for c in range(columns)
    ]
    return [under], windows


def trimmed(land: Lands, between: float) -> Lands:
    """Return lands that leave at least `between` from one to the other, shorter at the heel where they must."""
    if land.between >= between:
        return land
    length = round((land.over - between) / 2, 3)
    return Lands(round(land.over - length, 3), length, land.width)


def quad(s: PackageSpec) -> LandPattern:
    """Four rows of terminals, counter-clockwise from the upper left, or from the middle of the top (J leads)."""
    down, along = s.sides if len(s.sides) == 2 else (s.count // 4, s.count // 4)
    across_x = lands_of(s) if s.length[1] else Lands(s.span, s.pad[0], s.pad[1])
    across_y = lands_of(s, along_y=True) if s.length[1] else across_x
    thin = narrowed(across_x.width, s.pitch)
    across_x = trimmed(across_x, (along - 1) * s.pitch + thin + 2 * LEAST_GAP_MM)
    across_y = trimmed(across_y, (down - 1) * s.pitch + thin + 2 * LEAST_GAP_MM)
    flat, tall = (across_x.length, thin), (thin, across_y.length)
    ends = list(range(2 * (down + along)))
    left, bottom = ends[:down], ends[down : down + along]
    right, top = ends[down + along : 2 * down + along], ends[2 * down + along :]
    shift = along - along // 2 - 1 if s.first == "middle" else None
    names = [str(k + 1) for k in ends]
    if shift is not None:  # pin 1 in the middle of the top, on to the left
        start = 2 * down + along + along // 2
        names = [str((k - start) % len(ends) + 1) for k in ends]
    x, y = across_x.across / 2, across_y.across / 2
    pads = column([names[k] for k in left], -x, s.pitch, flat)
    pads += _row([names[k] for k in bottom], -y, s.pitch, tall)
    pads += column([names[k] for k in right], x, s.pitch, flat, down=False)
    pads += _row([names[k] for k in reversed(top)], y, s.pitch, tall)
    pads.sort(key=lambda p: int(p.number))
    below = centre_pads(s, str(len(ends) + 1), across_x.between, across_y.between)
    return _with_body(s, [*pads, *below[0]], below[1])


def _row(numbers: Iterable[str], y: float, pitch: float, size: tuple[float, float]) -> list[Pad]:
    names = list(numbers)
    return [pad(n, (k - (len(names) - 1) / 2) * pitch, y, size) for k, n in enumerate(names)]


def tab(s: PackageSpec) -> LandPattern:
    """Leads on the left and one wide tab, which is a pin too, on the right."""
    goals = goals_of(s)
    lead = lands(Span(*s.length), Span(*s.foot), Span(*s.width), goals)
    wide = lands(Span(*s.length), Span(*s.tab_foot), Span(*s.tab), goals)
    names = s.numbers or ("1", "3")
    pads = column(names, -lead.across / 2, s.pitch, (lead.length, lead.width))
    long = (wide.over - (middle(s.length) - 2 * middle(s.tab_foot))) / 2 + goals.heel / 2
    long = round(long, 2)
    pads.append(pad(s.tab_number or "2", round(wide.over / 2 - long / 2, 3), 0, (long, wide.width)))
    x1 = middle(s.length) / 2
    body = Box(x1 - s.body[0], -s.body[1] / 2, x1, s.body[1] / 2)
    mark = mark_beside(pads[0], body, pads)
    return finish(s, pads, body, mark, clear_of(body.grown(0.12), pads), goals.courtyard)


def balls(s: PackageSpec) -> LandPattern:
    """A grid of balls; `sides` has its columns and rows, `missing` the places without one."""
    columns, rows = s.sides
    size = ball_land(s.ball)
    pads = []
    for r in range(rows):
        letter = BALL_ROWS[r] if r < len(BALL_ROWS) else f"A{BALL_ROWS[r - len(BALL_ROWS)]}"
        for c in range(columns):
            if f"{letter}{c + 1}" not in s.missing:
                x, y = (c - (columns - 1) / 2) * s.pitch, ((rows - 1) / 2 - r) * s.pitch
                pads.append(pad(f"{letter}{c + 1}", x, y, (size, size), "round"))
    body = rect(*s.body)
    mark = (body.x0 - 0.35, body.y1 + 0.35)
    return finish(
        s, pads, body, mark, [*clear_of(body.grown(0.12), ())], GOALS["ball"][cast(Density, s.density)].courtyard
    )


def castellated(s: PackageSpec) -> LandPattern:
    """A module with half holes at its edge: `sides` has the count down the left, along the bottom, and up the right."""
    left, bottom, right = (*s.sides, 0, 0)[:3]
    land = lands(Span(*s.length), Span(*s.foot), Span(*s.width), GOALS["castellation"][cast(Density, s.density)])
    size = (land.length, narrowed(land.width, s.pitch))
    dy = s.body_shift[1]
    names = list(s.numbers) or [str(k + 1) for k in range(left + bottom + right)]
    pads = [p._replace(y_nm=p.y_nm - nm(dy)) for p in column(names[:left], -land.across / 2, s.pitch, size)]
    if bottom:
        y = -s.body[1] / 2 + (land.length / 2 - GOALS["castellation"]["nominal"].toe)
        pads += _row(names[left : left + bottom], y - dy, s.pitch, (size[1], size[0]))
    up = column(names[left + bottom :], land.across / 2, s.pitch, size, down=False)
    pads += [p._replace(y_nm=p.y_nm - nm(dy)) for p in up]
    body = rect(*s.body)
    mark = mark_beside(pads[0], body, pads)
    lines: list[Line] = clear_of(body.grown(0.12), pads)
    return finish(s, pads, body, mark, lines, GOALS["castellation"][cast(Density, s.density)].courtyard)
