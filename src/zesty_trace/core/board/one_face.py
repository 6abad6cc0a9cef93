"""All surface parts on one face: tried, and said what it takes."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.board.copper import courtyard_shape, outline_shape, pattern_of
from zesty_trace.core.board.faces import Faces, faces_of, second_heating
from zesty_trace.core.board.placing.measure import measure_placing
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.geometry import buffered
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm
from zesty_trace.errors import EditError


@dataclass(frozen=True)
class OneFace:
    """What came of a trial to have all on one face: the design if they fit, areas and links before and after, mm."""

    faces: Faces
    design: Design | None
    why_not: str
    need_mm2: float
    free_mm2: float
    links_before_mm: float
    links_after_mm: float
    findings_before: int
    findings_after: int

    def lines(self) -> list[str]:
        """Return the plan in sentences."""
        f = self.faces
        if not f.on_first:
            return ["No surface part is on the board."]
        if not f.both:
            return [f"All {len(f.on_first)} surface parts are on the {f.first}: one stencil, one heating."]
        lines = [
            f"{len(f.on_first)} surface parts are on the {f.first}, {len(f.on_second)} on the {f.second}: "
            f"{', '.join(f.on_second[:12])}{' ...' if len(f.on_second) > 12 else ''}.",
            *second_heating(f),
            f"They need {self.need_mm2:.0f} mm² of room; the {f.first} has {self.free_mm2:.0f} mm² free.",
        ]
        if self.design is None:
            return [*lines, f"They do not all fit there: {self.why_not}."]
        change = self.links_after_mm - self.links_before_mm
        lines.append(
            f"All fit on the {f.first}. Links become {abs(change):.0f} mm {'longer' if change > 0 else 'shorter'} "
            f"({self.links_before_mm:.0f} to {self.links_after_mm:.0f} mm); findings of placing {self.findings_before} "
            f"to {self.findings_after}. Route again afterwards."
        )
        return lines


def try_one_face(wired: Wired, report: Report = quiet) -> OneFace:
    """Place the parts of the second face on the first, all else where it is; Cancelled keeps nothing."""
    from shapely import unary_union

    from zesty_trace.core.board.placing.arrange import arrange_parts

    faces = faces_of(wired)
    before = measure_placing(wired)
    placements = wired.design.board.placements
    taken = [
        courtyard_shape(wired, r)
        for r, s in placements.items()
        if r in wired.design.parts and (s.side == faces.first or any(p.drill_nm for p in pattern_of(wired, r).pads))
    ]
    board = buffered(outline_shape(wired.design), -mm(wired.design.board.rules.edge_nm))
    free = board.difference(unary_union(taken)).area
    need = sum(courtyard_shape(wired, r).area for r in faces.on_second)
    design: Design | None = None
    why = ""
    if faces.both and need > free:
        why = f"{need - free:.0f} mm² are missing"
    elif faces.both and faces.first == "bottom":
        why = "the placing works on the top; turn the design over first"
    elif faces.both:
        bare = edits.unplace(edits.without_machine_copper(wired.design), faces.on_second)
        try:
            design = arrange_parts(wired.with_design(bare), report)
        except EditError as error:
            why = str(error).rstrip(".")
    after = measure_placing(wired.with_design(design)) if design else before
    return OneFace(faces, design, why, need, free, before.links_mm, after.links_mm, before.findings, after.findings)
