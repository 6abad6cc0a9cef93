"""Which file of a set is what: by what the file says of itself, by its name, then by what is in it."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

from zesty_trace.core.gerber.image import GerberImage

# Endings of file names that tell the layer: common practice of many tools.
ENDINGS = {
    "gtl": ("copper", "top"), "gbl": ("copper", "bottom"), "gts": ("mask", "top"), "gbs": ("mask", "bottom"),
    "gto": ("silk", "top"), "gbo": ("silk", "bottom"), "gtp": ("paste", "top"), "gbp": ("paste", "bottom"),
    "gko": ("outline", ""), "gm1": ("outline", ""), "gml": ("outline", ""), "gbr": ("", ""), "cmp": ("copper", "top"),
    "sol": ("copper", "bottom"), "stc": ("mask", "top"), "sts": ("mask", "bottom"), "plc": ("silk", "top"),
    "pls": ("silk", "bottom"), "crc": ("paste", "top"), "crs": ("paste", "bottom"), "dim": ("outline", ""),
}  # fmt: skip
WORDS: tuple[tuple[str, str], ...] = (
    (r"solder ?mask|stop ?mask|mask|resist|stopmask", "mask"),
    (r"paste|stencil|cream", "paste"),
    (r"silk ?screen|silk|legend|overlay|screen|nomenclature", "silk"),
    (r"outline|profile|edge|contour|board ?shape|dimension|border|mechanical", "outline"),
    (r"copper|signal|plane|layer|cu|art ?work", "copper"),
)
UNKNOWN = "nothing tells"
PICTURES = (".svg", ".pdf", ".png", ".jpg", ".jpeg", ".html", ".step", ".stp")
WORDS_IN_A_HEAD, COLUMNS_IN_A_HEAD = 5, 15
TITLE_LINES = 40  # before the head of a table
DRILLS = (".drl", ".xln", ".xnc", ".nc", ".drd", ".exc", ".tap")
INNER = re.compile(r"\b(?:inner|inr|int|in|internal|mid|signal|plane|layer|ly|g|gl|gp|l)[ ._-]?(\d{1,2})\b")


@dataclass(frozen=True)
class Guess:
    """What a file is taken to be, and why. `side` is top, bottom, inner1 ..., of drills plated or bare, else ""."""

    role: str
    side: str
    why: str
    format: str = "gerber"

    @property
    def unknown(self) -> bool:
        """Whether it is an image of which nothing tells what it is."""
        return (self.format, self.role, self.why) == ("gerber", "other", UNKNOWN)

    def __str__(self) -> str:
        return f"{self.side} {self.role}".strip()


def guess(name: str, text: str) -> Guess:
    """Return what a file is, from its first lines and its name."""
    kind = format_of(name, text)
    if kind == "gerber":
        return said_by_attribute(text) or said_by_name(name) or Guess("other", "", UNKNOWN)
    if kind == "drill":
        return Guess("drill", _plating(name), "a drill file", "drill")
    return Guess(kind, "", f"it reads as a {kind}" if kind != "other" else "no fabrication data", kind)


def format_of(name: str, text: str) -> str:
    """Return gerber, drill, netlist, job, bom, centroid or other."""
    head = text[:6000]
    lower = name.lower()
    if lower.endswith(PICTURES) or head.startswith("%PDF"):
        return "other"
    if re.search(r"%FS[LTDAI]|%MO(MM|IN)\*|%ADD\d", head) or re.search(r"^G04|^G0?[12]\*|^D1\d\*", head, re.M):
        return "gerber"
    if head.lstrip("\ufeff").lstrip().upper().startswith("M48"):
        return "drill"
    if re.search(r"^\s*(M48|M72|M71|%)\s*$", head, re.M | re.I) and re.search(r"^\s*T\d+", head, re.M | re.I):
        return "drill"
    if re.search(r"^T\d+C[\d.]+", head, re.M) or (lower.endswith(DRILLS) and re.search(r"^[XYT]", head, re.M)):
        return "drill"
    if re.search(r"^P\s+(JOB|UNITS|VER|CODE)|^3[12]7", head, re.M):
        return "netlist"
    if head.lstrip().startswith("{") and "GeneralSpecs" in text:
        return "job"
    for line in head.lower().splitlines()[:TITLE_LINES]:
        if re.search(r"\bref|designator|\bparts?\b", line) and _is_head(line):
            if re.search(r"rot|angle|orient", line) and re.search(r"x", line):
                return "centroid"
            if re.search(r"qty|quantity|count|value|comment|footprint|package|description", line):
                return "bom"
    return "other"


def _is_head(line: str) -> bool:
    """Whether a line is the head of a table, not prose: two cells or more, of a few words each."""
    mark = max(",;\t|", key=line.count)
    cells = line.split(mark)
    if len(cells) == 1:  # columns parted by blanks
        return not re.search(r"[.:!?]", line) and len(line.split()) <= COLUMNS_IN_A_HEAD
    return all(len(c.split()) <= WORDS_IN_A_HEAD for c in cells)


def said_by_attribute(text: str) -> Guess | None:
    """Return what the file says of itself with its function attribute."""
    match = re.search(r"TF\.FileFunction,([^*%\n]+)", text[:20000])
    if match is None:
        return None
    words = [w.strip() for w in match[1].split(",")]
    why = f"its attribute says {match[1].strip()}"
    side = "top" if "Top" in words else "bottom" if "Bot" in words else ""
    role = {"Soldermask": "mask", "Paste": "paste", "Legend": "silk", "Profile": "outline"}.get(words[0])
    if role:
        return Guess(role, "" if role == "outline" else side, why)
    if words[0] in ("Vcut", "Vcutmap"):
        return Guess("score", "", why)
    if words[0] == "Copper":
        level = next((int(w[1:]) for w in words if re.fullmatch(r"L\d{1,2}", w)), 0)
        return Guess("copper", side or f"inner{max(1, level - 1)}", why)
    if words[0] in ("Plated", "NonPlated"):
        return Guess("drill", "plated" if words[0] == "Plated" else "bare", why)
    return Guess("other", "", why)


def said_by_name(name: str) -> Guess | None:
    """Return what a file name says."""
    base = name.rsplit("/", 1)[-1].lower()
    ending = base.rsplit(".", 1)[-1]
    if ENDINGS.get(ending, ("", ""))[0]:
        return Guess(*ENDINGS[ending], f"its name ends in .{ending}")
    if match := re.fullmatch(r"g[lp]?(\d{1,2})", ending):
        return Guess("copper", f"inner{int(match[1])}", f"its name ends in .{ending}")
    words = re.sub(r"[^a-z0-9]+", " ", base.rsplit(".", 1)[0])
    role = next((r for pattern, r in WORDS if re.search(rf"\b(?:[ftb] ?)?(?:{pattern})\b", words)), "")
    if not role:
        role = next((r for pattern, r in WORDS[:-1] if re.search(pattern, words)), "")
    if re.search(r"\b(drill|npth|pth|holes?)\b", words):
        return Guess("drill", _plating(name), f"its name “{base}”")
    side = "top" if re.search(r"top|front|\bf\b|component|\bcmp\b|primary", words) else ""
    if not side and re.search(r"bot|back|\bb\b|solder ?side|secondary|\bbcu\b", words):
        side = "bottom"
    if role == "outline":
        return Guess("outline", "", f"its name “{base}”")
    if role in ("", "copper") and not side and (match := INNER.search(words)):
        return Guess("copper", f"inner{int(match[1])}", f"its name “{base}”")
    return Guess(role or "copper", side, f"its name “{base}”") if side and (role or "cu" in words) else None


def _plating(name: str) -> str:
    lower = name.lower()
    if re.search(r"npth|non[ _-]?plated|nonplated|unplated|bare", lower):
        return "bare"
    return "plated" if re.search(r"pth|plated", lower) else ""


def settled(guesses: Mapping[str, Guess], images: Mapping[str, GerberImage]) -> dict[str, Guess]:
    """Return guesses with what only the images can tell: an outline among files that nothing else tells of."""
    found = dict(guesses)
    unknown = [n for n, g in guesses.items() if g.unknown]
    if not any(g.role == "outline" for g in guesses.values()):
        rings = [n for n in unknown if _is_ring(images[n], images.values())]
        if len(rings) == 1:
            found[rings[0]] = replace(guesses[rings[0]], role="outline", side="", why="it is a line round all the rest")
    inner = sorted(
        (n for n, g in found.items() if g.role == "copper" and g.side.startswith("inner")),
        key=lambda n: int(found[n].side[5:]),
    )
    for k, name in enumerate(inner, 1):  # numbers in names count the outer layer, or do not
        found[name] = replace(found[name], side=f"inner{k}")
    return found


def _is_ring(image: GerberImage, others: Collection[GerberImage]) -> bool:
    """Whether an image is thin lines that go round what all others hold."""
    from shapely import box, total_bounds

    marks = image.marks
    if not marks or len(marks) > 2000 or any(m.kind != "stroke" for m in marks):
        return False
    points = [[p for m in other.marks for p in m.points] for other in others if other is not image and other.marks]
    if not points:
        return False
    edge = box(*total_bounds(image.lines)).buffer(0.05)
    inside = sum(edge.contains(_box_of(p)) for p in points)
    return bool(inside >= 0.8 * len(points))


def _box_of(points: list[tuple[float, float]]) -> Any:
    from shapely import box

    xs, ys = zip(*points, strict=True)
    return box(min(xs), min(ys), max(xs), max(ys))
