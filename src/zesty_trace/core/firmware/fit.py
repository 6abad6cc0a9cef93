"""Which image boards of the build's variant take, and whether it is for the controller that is on them."""

from __future__ import annotations

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, ImageSpec
from zesty_trace.core.findings import Finding, Severity, Subject, rule

IMAGE_TARGET = rule(
    "image target",
    Severity.STOP,
    "The programmer refuses another chip at best; at worst the pins of the wrong one are driven.",
    "part kinds of the design",
    limits="the target of a controller on the board",
    station="flash",
)


def image_spec(design: Design) -> ImageSpec | None:
    """Return the image that boards of the build's variant take: their own, else the one for all."""
    return next((i for v in (design.build.variant, "") for i in design.images if i.variant == v), None)


def controller_findings(wired: Wired) -> list[Finding]:
    """Return whether the image is for the controller that is on boards of the build's variant."""
    design = wired.design
    spec = image_spec(design)
    fitted = design.fitted(design.build.variant)
    chips = {r: t for r in fitted.parts if (t := wired.kind(r).target)}
    if spec is None or not chips or spec.target in chips.values():
        return []
    said = ", ".join(f"{r} is a {t}" for r, t in chips.items())
    return [
        IMAGE_TARGET.found(
            Subject(refs=tuple(chips)),
            f"The image is for {spec.target}, which is not on the board",
            f"{said}. Choose the image for it, or the right target.",
        )
    ]
