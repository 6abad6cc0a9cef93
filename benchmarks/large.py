"""A made-up design of about 150 parts and 400 pins, grown from the demo by copying its blocks.

What the limits are held against.
"""

from __future__ import annotations

from datetime import date
from importlib.resources import files

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.group_edits import copy_parts
from zesty_trace.core.design.model import Design
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.journey.demos import demo_base

PARTS = 150
ONCE = ("J1", "F1", "U1", "U2")  # the supplies feed the copies too


def demo(name: str, catalogue: Catalogue) -> Design:
    """Return a demo design as imported."""
    root = files("zesty_trace") / "data" / "demo" / name
    texts = [(root / n).read_text("utf-8") for n in ("parts.csv", "wiring.csv")]
    return import_prototype(texts[0], texts[1], catalogue, demo_base(date.today(), name))


def mended(design: Design, catalogue: Catalogue) -> Design:
    """Return a design with every offered mend applied once."""
    for finding in review(Wired(design, catalogue)):
        if finding.mend:
            design = finding.mend.apply(design)
    return design


def large(catalogue: Catalogue) -> Design:
    """Return the proofing demo, its parts copied until there are 150."""
    design = mended(demo("proofing", catalogue), catalogue)
    refs = [r for r in design.parts if r not in ONCE]
    while len(design.parts) < PARTS:
        design, _ = copy_parts(design, refs[: PARTS - len(design.parts)])
    return design
