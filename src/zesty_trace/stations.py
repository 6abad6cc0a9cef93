"""The stations of the journey in one table, and the demos: what the window needs before anything heavy is loaded."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class StationSpec:
    """One station: its key, its title, the step to take there, the class of its view as `module:name`.

    `empty` is what there is to do while the project has no parts.
    """

    key: str
    title: str
    next_step: str
    view: str
    empty: str


SPECS: tuple[StationSpec, ...] = (
    StationSpec(
        "brief",
        "Brief",
        "Import the prototype and fill in what the findings name.",
        "zesty_trace.desktop.brief.station:BriefStation",
        "There are no parts yet. Choose the two tables of the prototype and import them, or say parts in Schematic.",
    ),
    StationSpec(
        "schematic",
        "Schematic",
        "Deal with the findings; Mend does most of them with one click.",
        "zesty_trace.desktop.schematic.station:SchematicStation",
        "There are no parts to judge yet. Import the prototype in Brief, or say one below: add R1 resistor 330.",
    ),
    StationSpec(
        "layout",
        "Layout",
        "Place the rest, then Route.",
        "zesty_trace.desktop.layout.station:LayoutStation",
        "There are no parts to place yet. The board is checked as soon as there are.",
    ),
    StationSpec(
        "order",
        "Order",
        "Write the fabrication zip and look at it before you order.",
        "zesty_trace.desktop.order.station:OrderStation",
        "There is nothing to order yet: draw and lay out a board first.",
    ),
    StationSpec(
        "assembly",
        "Assembly",
        "Build the boards step by step, then record them as assembled.",
        "zesty_trace.desktop.assembly.station:AssemblyStation",
        "There is nothing to put together yet.",
    ),
    StationSpec(
        "flash",
        "Flash",
        "Flash all boards that are left.",
        "zesty_trace.desktop.flash.station:FlashStation",
        "There is no controller yet, and no image to put into it.",
    ),
    StationSpec(
        "bench",
        "Bench",
        "Measure the batch.",
        "zesty_trace.desktop.bench.station:BenchStation",
        "There is no board to test yet. The plan is made from the design.",
    ),
    StationSpec(
        "next",
        "Next rev",
        "Note what the next revision should do better, tick it off, start it.",
        "zesty_trace.desktop.next_rev.station:NextRevStation",
        "There is no revision to improve yet.",
    ),
)
SPEC = {spec.key: spec for spec in SPECS}
STATIONS = tuple(SPEC)
DEMOS = {"proofing": "proofing-cabinet", "tide-dial": "wall-tide-dial", "sensor-node": "radio-sensor-node"}
