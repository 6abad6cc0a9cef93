"""Made-up boards for the router: random two-layer boards with parts in place, nets of 2 to 5 pins, a ground, a supply.

Chips, SOT, SOIC, 0.8 mm QFP, 2.54 mm headers and through-hole parts stand at random, two fifths of the area used. A
quarter of the pins is ground, on a pour on the bottom; one in twelve is the supply; the rest is joined with what is
near, so near that the wiring has the density asked for: octilinear spanning length over the board's area.
"""

from __future__ import annotations

import math
from random import Random

import numpy as np

from zesty_trace.core.catalogue.kind import Kind, PinSpec
from zesty_trace.core.catalogue.kinds import Catalogue, shipped
from zesty_trace.core.catalogue.land_patterns import land_pattern
from zesty_trace.core.catalogue.models import Open
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Board, Design, Part, Pin, Placement, Pour, Rules
from zesty_trace.core.geometry import Point

MIX = (
    ("R0603", 24), ("C0603", 18), ("R0805", 8), ("SOT-23", 10), ("SOT-23-6", 5), ("SOIC-8", 8), ("SOIC-14", 4),
    ("SOIC-16", 4), ("LQFP-32", 4), ("Header-1x4", 5), ("Header-1x6", 3), ("DIP-8", 3), ("DO-35", 4),
)  # fmt: skip
USED = 0.40
GAP_MM = 0.4
GROUND_SHARE, SUPPLY_SHARE = 0.25, 0.08
RULES = Rules(track_nm=200_000, clearance_nm=200_000)


def random_board(parts: int, seed: int, density: float = 0.72) -> Wired:
    """Return the board of a seed, everything in place and no copper yet."""
    random = Random(seed * 1000 + parts)
    stock = shipped()
    names = [n for n, _ in MIX if n in stock.packages]
    weights = [w for n, w in MIX if n in stock.packages]
    chosen = random.choices(names, weights, k=parts)
    patterns = {n: land_pattern(stock.packages[n]) for n in names}
    kinds = {n: _kind(n, [p.number for p in patterns[n].pads]) for n in names}
    spots, wide, high = _place(random, [patterns[n] for n in chosen])
    refs = {f"U{k + 1}": n for k, n in enumerate(chosen)}
    design_parts = {ref: Part(ref=ref, kind=kinds[n].id, package=n) for ref, n in refs.items()}
    placements = dict(zip(refs, spots, strict=True))
    nets = _nets(random, refs, patterns, placements, density * wide * high)
    w, h = round(wide * 1e6), round(high * 1e6)
    board = Board(
        outline=(Point(0, 0), Point(w, 0), Point(w, h), Point(0, h)),
        placements=placements,
        pours=(Pour(net="GND", layer="bottom"),),
        rules=RULES,
    )
    design = Design(name=f"made up {parts}-{seed}", parts=design_parts, nets=nets, board=board)
    return Wired(design, Catalogue({k.id: k for k in kinds.values()}, stock.packages))


def _kind(package: str, numbers: list[str]) -> Kind:
    pins = tuple(PinSpec(n, f"P{n}", "passive") for n in dict.fromkeys(numbers))
    return Kind(id=f"part_{package}", title=package, prefix="U", packages=(package,), pins=pins, model=Open())


def _place(random: Random, patterns: list) -> tuple[list[Placement], float, float]:
    sizes = [(p.courtyard.width / 1e6 + GAP_MM, p.courtyard.height / 1e6 + GAP_MM) for p in patterns]
    area = sum(w * h for w, h in sizes) / USED
    while True:
        wide = math.sqrt(area * 1.4)
        high = area / wide
        spots = _try_place(random, patterns, wide, high)
        if spots:
            return spots, wide, high
        area *= 1.03


def _try_place(random: Random, patterns: list, wide: float, high: float) -> list[Placement]:
    boxes: list[tuple[float, float, float, float]] = []
    found: dict[int, Placement] = {}
    order = sorted(range(len(patterns)), key=lambda k: -patterns[k].courtyard.area)
    for k in order:
        yard = patterns[k].courtyard
        for _ in range(3000):
            turn = random.choice((0, 90, 180, 270))
            x0, y0, x1, y1 = (v / 1e6 for v in yard)
            if turn == 90:
                x0, y0, x1, y1 = -y1, x0, -y0, x1
            elif turn == 180:
                x0, y0, x1, y1 = -x1, -y1, -x0, -y0
            elif turn == 270:
                x0, y0, x1, y1 = y0, -x1, y1, -x0
            g = GAP_MM / 2
            x = round(random.uniform(0.6 - x0, wide - 0.6 - x1), 2)
            y = round(random.uniform(0.6 - y0, high - 0.6 - y1), 2)
            box = (x + x0 - g, y + y0 - g, x + x1 + g, y + y1 + g)
            if all(box[2] <= b[0] or b[2] <= box[0] or box[3] <= b[1] or b[3] <= box[1] for b in boxes):
                boxes.append(box)
                found[k] = Placement(x_nm=round(x * 1e6), y_nm=round(y * 1e6), angle_mdeg=turn * 1000)
                break
        else:
            return []
    return [found[k] for k in range(len(patterns))]


def octilinear(points: np.ndarray) -> float:
    """Return the length of the least tree over points (N, 2) with steps of 45 degrees."""
    inside, left = [0], list(range(1, len(points)))
    total = 0.0
    while left:
        best = None
        for k in left:
            d = np.abs(points[inside] - points[k])
            away = float((d.max(axis=1) + (math.sqrt(2) - 1) * d.min(axis=1)).min())
            if best is None or away < best[0]:
                best = (away, k)
        total += best[0]
        inside.append(best[1])
        left.remove(best[1])
    return total


def _nets(random: Random, refs: dict, patterns: dict, placements: dict, wanted_mm: float) -> dict:
    spots: dict[Pin, tuple[float, float]] = {}
    for ref, name in refs.items():
        p = placements[ref]
        a = math.radians(p.angle_mdeg / 1000)
        for pad in patterns[name].pads:
            x, y = pad.x_nm / 1e6, pad.y_nm / 1e6
            at = (p.x_nm / 1e6 + x * math.cos(a) - y * math.sin(a), p.y_nm / 1e6 + x * math.sin(a) + y * math.cos(a))
            spots.setdefault(Pin(ref, pad.number), at)
    best: dict = {}
    state = random.getstate()
    low, high = 1.0, 400.0
    for _ in range(9):  # how many of the nearest pins a net may choose from
        near = math.sqrt(low * high)
        random.setstate(state)
        nets = _join(random, spots, near)
        length = sum(octilinear(np.array([spots[p] for p in pins])) for pins in nets.values())
        best = nets
        if abs(length / wanted_mm - 1) < 0.02:
            break
        low, high = (near, high) if length < wanted_mm else (low, near)
    return best


def _join(random: Random, spots: dict, near: float) -> dict:
    pins = list(spots)
    random.shuffle(pins)
    ground = round(len(pins) * GROUND_SHARE)
    supply = max(2, round(len(pins) * SUPPLY_SHARE))
    nets = {"GND": tuple(pins[:ground]), "SUPPLY": tuple(pins[ground : ground + supply])}
    free = pins[ground + supply :]
    at = np.array([spots[p] for p in free])
    taken = np.zeros(len(free), dtype=bool)
    for k, pin in enumerate(free):
        if taken[k]:
            continue
        taken[k] = True
        count = random.choices((2, 3, 4, 5), (60, 20, 12, 8))[0]
        away = np.hypot(*(at - at[k]).T)
        away[taken] = np.inf
        order = np.argsort(away, kind="stable")
        order = [int(j) for j in order if np.isfinite(away[j]) and free[j].ref != pin.ref]
        pool = order[: max(count, int(near))]
        members = random.sample(pool, min(count - 1, len(pool)))
        if not members:
            continue
        for j in members:
            taken[j] = True
        nets[f"N{k}"] = (pin, *(free[j] for j in members))
    return nets
