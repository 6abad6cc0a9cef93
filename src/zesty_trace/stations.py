"""The stations of the journey in one table, and the demos: what the window needs before anything heavy is loaded."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class StationSpec:
    """One station: its key, its title, the step to take there, and the class of its view as `module:name`."""

    key: str
    title: str
    next_step: str
    view: str


SPECS: tuple[StationSpec, ...] = (
    StationSpec(
        "brief",
        "Brief",
        "Import the prototype and fill in what the findings name.",
        "zesty_trace.desktop.brief.station:BriefStation",
    ),
    StationSpec(
        "schematic",
        "Schematic",
        "Deal with the findings; Mend does most of them with one click.",
        "zesty_trace.desktop.schematic.station:SchematicStation",
    ),
    StationSpec(
        "layout",
        "Layout",
        "Place the rest, then Route.",
        "zesty_trace.desktop.layout.station:LayoutStation",
    ),
    StationSpec(
        "order",
        "Order",
        "Write the fabrication zip and look at it before you order.",
        "zesty_trace.desktop.order.station:OrderStation",
    ),
    StationSpec(
        "assembly",
        "Assembly",
        "Build the boards step by step, then record them as assembled.",
        "zesty_trace.desktop.assembly.station:AssemblyStation",
    ),
    StationSpec(
        "flash",
        "Flash",
        "Flash all boards that are left.",
        "zesty_trace.desktop.flash.station:FlashStation",
    ),
    StationSpec(
        "bench",
        "Bench",
        "Measure the batch.",
        "zesty_trace.desktop.bench.station:BenchStation",
    ),
    StationSpec(
        "next",
        "Next rev",
        "Note what the next revision should do better, tick it off, start it.",
        "zesty_trace.desktop.next_rev.station:NextRevStation",
    ),
)
SPEC = {spec.key: spec for spec in SPECS}
STATIONS = tuple(SPEC)
DEMOS = {"proofing": "proofing-cabinet", "tide-dial": "wall-tide-dial", "sensor-node": "radio-sensor-node"}
