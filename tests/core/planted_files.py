"""Faults planted in the texts of fabrication files, as they happen between the design and the board house."""

from __future__ import annotations

import re
from collections.abc import Callable

Files = dict[str, str]


def _points(text: str, code: str) -> list[tuple[int, int]]:
    return [(int(x), int(y)) for x, y in re.findall(rf"^X(-?\d+)Y(-?\d+){code}\*$", text, re.M)]


def _before_end(text: str, more: str) -> str:
    return text.replace("M02*", f"{more}\nM02*")


def pads_of_nets(text: str) -> dict[str, tuple[int, int]]:
    """Return a flashed place of each net of a copper file."""
    found: dict[str, tuple[int, int]] = {}
    net = ""
    for line in text.splitlines():
        if match := re.match(r"%TO\.N,([^*]*)\*%", line):
            net = match[1]
        elif line.startswith("%TD"):
            net = ""
        elif (match := re.match(r"^X(-?\d+)Y(-?\d+)D03\*$", line)) and net:
            found.setdefault(net, (int(match[1]), int(match[2])))
    return found


def open_net(files: Files) -> Files:
    """Take all strokes of a net away, on both layers; its pads stay."""
    found = dict(files)
    first = re.search(r"^%TO\.N,(?!GND)([^*]*)\*%\nD\d+\*\nX-?\d+Y-?\d+D02\*", files["copper-top.gbr"], re.M)
    assert first is not None
    for name in ("copper-top.gbr", "copper-bottom.gbr"):
        parts = re.split(r"(?=^%TO\.N,)", files[name], flags=re.M)
        for k, part in enumerate(parts):
            if part.startswith(f"%TO.N,{first[1]}*%"):
                pieces = re.split(r"(^G36\*.*?^G37\*)", part, flags=re.M | re.S)  # pads that are filled stay
                strokes = r"^X-?\d+Y-?\d+D0[12]\*\n"
                parts[k] = "".join(p if p.startswith("G36") else re.sub(strokes, "", p, flags=re.M) for p in pieces)
        found[name] = "".join(parts)
    return found


def short_nets(files: Files) -> Files:
    """Draw a track from a pad of one net to one of another."""
    (a, b), (c, d) = list(pads_of_nets(files["copper-top.gbr"]).values())[:2]
    pen = "%ADD99C,0.250000*%"
    stroke = f"%LPD*%\nG01*\nD99*\nX{a}Y{b}D02*\nX{c}Y{d}D01*"
    text = files["copper-top.gbr"].replace("G01*\n", f"{pen}\nG01*\n", 1)
    return files | {"copper-top.gbr": _before_end(text, stroke)}


def one_opening_less(files: Files) -> Files:
    lines = files["mask-top.gbr"].split("\n")
    first = next(k for k, line in enumerate(lines) if line.endswith("D03*"))
    return files | {"mask-top.gbr": "\n".join([*lines[:first], *lines[first + 1 :]])}


def no_openings(files: Files) -> Files:
    lines = [line for line in files["mask-top.gbr"].split("\n") if not line.endswith(("D03*", "D01*", "D02*"))]
    return files | {"mask-top.gbr": "\n".join(lines)}


def without(name: str) -> Callable[[Files], Files]:
    return lambda files: {n: t for n, t in files.items() if n != name}


def drill_by(dx: float, dy: float) -> Callable[[Files], Files]:
    """Shift the plated drills, mm."""

    def moved(match: re.Match[str]) -> str:
        return f"X{float(match[1]) + dx:.4f}Y{float(match[2]) + dy:.4f}"

    return lambda files: (
        files | {"drill-plated.xnc": re.sub(r"X(-?[\d.]+)Y(-?[\d.]+)", moved, files["drill-plated.xnc"])}
    )


def in_inches(name: str) -> Callable[[Files], Files]:
    return lambda files: files | {name: files[name].replace("METRIC", "INCH").replace("%MOMM", "%MOIN")}


def larger_drill(files: Files) -> Files:
    """Make the first drill 0.4 mm larger."""
    text = files["drill-plated.xnc"]
    return files | {
        "drill-plated.xnc": re.sub(r"^T01C([\d.]+)", lambda m: f"T01C{float(m[1]) + 0.4:.3f}", text, flags=re.M)
    }


def silk_over_pad(files: Files) -> Files:
    x, y = _points(files["mask-top.gbr"], "D03")[0]
    text = files["silk-top.gbr"].replace("G01*\n", "%ADD99C,0.150000*%\nG01*\n", 1)
    stroke = f"D99*\nX{x - 500_000}Y{y}D02*\nX{x + 500_000}Y{y}D01*"
    return files | {"silk-top.gbr": _before_end(text, stroke)}


def open_outline(files: Files) -> Files:
    lines = files["outline.gbr"].split("\n")
    last = max(k for k, line in enumerate(lines) if line.endswith("D01*"))
    return files | {"outline.gbr": "\n".join([*lines[:last], *lines[last + 1 :]])}


def paste_on_hole(files: Files) -> Files:
    sizes = dict(re.findall(r"^T(\d+)C([\d.]+)", files["drill-plated.xnc"], re.M))
    tool = next(t for t, size in sizes.items() if float(size) > 0.6)
    spot = re.search(rf"^T{tool}\nX(-?[\d.]+)Y(-?[\d.]+)", files["drill-plated.xnc"].split("%")[1], re.M)
    assert spot is not None
    x, y = (round(float(v) * 1e6) for v in spot.groups())
    text = files["paste-top.gbr"].replace("G01*\n", "%ADD99C,1.400000*%\nG01*\n", 1)
    return files | {"paste-top.gbr": _before_end(text, f"D99*\nX{x}Y{y}D03*")}


def swapped(one: str, other: str, silent: bool = False) -> Callable[[Files], Files]:
    """Exchange two files; `silent` without what they say of themselves."""

    def plain(text: str) -> str:
        return re.sub(r"%TF\.FileFunction[^%]*%\n", "", text) if silent else text

    return lambda files: (
        {n: plain(t) if n.endswith(".gbr") else t for n, t in files.items()}
        | {one: plain(files[other]), other: plain(files[one])}
    )


# What is planted: how, and the rules of which one must speak.
PLANTED: dict[str, tuple[Callable[[Files], Files], set[str]]] = {
    "open": (open_net, {"open"}),
    "short": (short_nets, {"short"}),
    "one opening of the mask missing": (one_opening_less, {"closed mask"}),
    "closed mask": (no_openings, {"closed mask"}),
    "no top copper": (without("copper-top.gbr"), {"missing layer"}),
    "no bottom copper": (without("copper-bottom.gbr"), {"missing layer"}),
    "no top mask": (without("mask-top.gbr"), {"missing layer"}),
    "no outline": (without("outline.gbr"), {"no outline"}),
    "no plated drills": (without("drill-plated.xnc"), {"missing layer"}),
    "drills shifted": (drill_by(0.12, 0.0), {"misregistered"}),
    "drills far off": (drill_by(3.0, -2.0), {"misregistered", "ring"}),
    "drills in inches": (in_inches("drill-plated.xnc"), {"unit", "misregistered"}),
    "copper in inches": (in_inches("copper-top.gbr"), {"unit", "misregistered"}),
    "outline in inches": (in_inches("outline.gbr"), {"size", "unit"}),
    "ring too small": (larger_drill, {"ring"}),
    "silk on a pad": (silk_over_pad, {"silk on a pad"}),
    "open outline": (open_outline, {"open outline"}),
    "paste on a hole": (paste_on_hole, {"paste on a hole"}),
    "copper swapped": (swapped("copper-top.gbr", "copper-bottom.gbr"), {"swapped names", "swapped layers"}),
    "masks swapped": (swapped("mask-top.gbr", "mask-bottom.gbr"), {"swapped names", "swapped layers"}),
    "copper swapped in silence": (
        swapped("copper-top.gbr", "copper-bottom.gbr", True),
        {"swapped layers", "closed mask", "paste beside copper"},
    ),
    "masks swapped in silence": (swapped("mask-top.gbr", "mask-bottom.gbr", True), {"swapped layers", "closed mask"}),
}
