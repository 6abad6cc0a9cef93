"""Names that the window needs before anything heavy is loaded: the stations, the step to take at each, the demos."""

from __future__ import annotations

STATIONS = ("brief", "schematic", "layout", "order", "assembly", "flash", "bench", "next")
STATION_TITLES = {
    "brief": "Brief",
    "schematic": "Schematic",
    "layout": "Layout",
    "order": "Order",
    "assembly": "Assembly",
    "flash": "Flash",
    "bench": "Bench",
    "next": "Next rev",
}
NEXT_STEPS = {
    "brief": "Import the prototype and fill in what the findings name.",
    "schematic": "Deal with the findings; Mend does most of them with one click.",
    "layout": "Place the rest, then Route.",
    "order": "Write the fabrication zip and look at it before you order.",
    "assembly": "Build the boards step by step, then record them as assembled.",
    "flash": "Flash all boards that are left.",
    "bench": "Measure the batch.",
    "next": "Note what the next revision should do better, tick it off, start it.",
}
DEMOS = {"proofing": "proofing-cabinet", "tide-dial": "wall-tide-dial", "sensor-node": "radio-sensor-node"}
