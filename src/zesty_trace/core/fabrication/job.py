"""What the files are for, once for programs (the open job file, JSON) and once for people (the fabrication note)."""

from __future__ import annotations

import json
from collections.abc import Mapping

from zesty_trace.core.board.copper import hole_items
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.fabrication.guessing import said_by_attribute
from zesty_trace.core.fabrication.tables import centroid_words
from zesty_trace.core.geometry import box_of
from zesty_trace.core.quantities import mm


def job_file(wired: Wired, files: Mapping[str, str]) -> str:
    """Return the job file (Gerber job format, 2023): size, layers, rules, and what each image file is."""
    board, build = wired.design.board, wired.design.build
    edge = box_of((mm(x), mm(y)) for x, y in board.outline)
    rules = board.rules
    images = [(n, g, t) for n, t in sorted(files.items()) if n.endswith(".gbr") and (g := said_by_attribute(t))]
    job = {
        "Header": {"GenerationSoftware": {"Vendor": "ZestyTrace", "Application": "zesty-trace", "Version": "0.1"}},
        "GeneralSpecs": {
            "ProjectId": {"Name": wired.design.name, "Revision": wired.design.revision},
            "Size": {"X": round(edge.width, 4), "Y": round(edge.height, 4)},
            "LayerNumber": len(board.stack),
            "BoardThickness": mm(rules.thickness_nm),
        },
        "DesignRules": [
            {
                "Layers": "Outer",
                "PadToPad": mm(rules.clearance_nm),
                "PadToTrack": mm(rules.clearance_nm),
                "TrackToTrack": mm(rules.clearance_nm),
                "MinLineWidth": mm(min((t.width_nm for t in board.tracks), default=rules.track_nm)),
            }
        ],
        "FilesAttributes": [
            {
                "Path": name,
                "FileFunction": guess.why.removeprefix("its attribute says "),
                "FilePolarity": _polarity(text),
            }
            for name, guess, text in images
        ],
        "MaterialStackup": [
            {"Type": "SolderMask", "Color": build.colour.capitalize(), "Name": "Top mask"},
            *({"Type": "Copper", "Thickness": rules.foil_um(k) / 1000, "Name": k} for k in board.stack),
            {"Type": "SolderMask", "Color": build.colour.capitalize(), "Name": "Bottom mask"},
        ],
    }
    return json.dumps(job, indent=1, ensure_ascii=True) + "\n"


def _polarity(text: str) -> str:
    return "Negative" if "TF.FilePolarity,Negative" in text else "Positive"


def fabrication_note(wired: Wired) -> str:
    """Return what the house should know, as plain text."""
    design = wired.design
    board, rules = design.board, design.board.rules
    edge = box_of((mm(x), mm(y)) for x, y in board.outline)
    holes = hole_items(wired)
    bare = sum(not h.plated for h in holes)
    slots = sum(h.slot for h in holes)
    smallest = min((mm(h.drill_nm) for h in holes), default=0.0)
    lines = [
        f"{design.name}, revision {design.revision}",
        "",
        f"Board: {edge.width:.2f} x {edge.height:.2f} mm over all, outline to +-0.2 mm; {len(board.cutouts)} cut-outs.",
        f"Layers of copper: {len(board.stack)} ({', '.join(board.stack)}), "
        + ", ".join(f"{k} {rules.foil_um(k):g} um" for k in board.stack)
        + ".",
        f"Thickness: {mm(rules.thickness_nm):g} mm, glass-reinforced epoxy (FR-4), +-10 %.",
        f"Solder mask: {design.build.colour}, both faces; openings {mm(rules.mask_margin_nm):g} mm wider than pads.",
        "Silk: both faces. Finish: as ordered, fit for surface-mount parts.",
        f"Smallest gap {mm(rules.clearance_nm):g} mm, smallest drill {smallest:g} mm (finished size).",
        f"Holes: {len(holes) - bare} plated, {bare} bare; {slots} of them slots; plated and bare in two files.",
        "All files have one origin, y upwards, millimetres.",
        "Round edges of the board and of pads are arcs; those of pours are chords within 0.005 mm.",
        "Electrical test against netlist.ipc (IPC-D-356A).",
        *centroid_words(design.build.centroid),
        "Where 0 degrees is differs by house: check, with the assembly drawing.",
    ]
    return "\n".join([*lines, ""])
