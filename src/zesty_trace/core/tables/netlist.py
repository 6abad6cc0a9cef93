"""The netlist as a table or as JSON."""

from __future__ import annotations

import json

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.names import csv_text


def netlist_csv(wired: Wired) -> str:
    """Return one line for each connected pin: net, ref, pin number, pin name, kind, value."""
    design = wired.design
    rows = [["net", "ref", "pin", "name", "kind", "value"]]
    for net, pins in design.nets.items():
        for pin in pins:
            part = design.parts[pin.ref]
            rows.append([net, pin.ref, pin.number, wired.spec(pin).name, part.kind, part.value])
    return csv_text(rows)


def netlist_json(wired: Wired) -> str:
    """Return parts, nets and pins left open, as JSON."""
    design = wired.design
    parts = {
        ref: {"kind": p.kind, "value": p.value, "package": p.package or wired.kind(ref).packages[0]}
        for ref, p in design.parts.items()
    }
    nets = {
        net: [{"ref": p.ref, "pin": p.number, "name": wired.spec(p).name} for p in pins]
        for net, pins in design.nets.items()
    }
    data = {
        "design": design.name,
        "revision": design.revision,
        "parts": parts,
        "nets": nets,
        "left_open": [str(p) for p in design.not_connected],
    }
    return json.dumps(data, ensure_ascii=False, indent=1) + "\n"
