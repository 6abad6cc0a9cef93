"""The command that writes tool paths for a mill at home."""

from __future__ import annotations

import argparse
from pathlib import Path

from zesty_trace.cli.common import FINE, FOUND, Answer, load
from zesty_trace.errors import StoreError


def mill_command(a: argparse.Namespace) -> Answer:
    """Write G-code for isolating, drilling and cutting out one face."""
    from zesty_trace.core.fabrication.milling import CAUTIONS, MillTools, mill, mill_files
    from zesty_trace.files import write_given

    wired, folder = load(a.project)
    tools = MillTools(cutter=a.cutter, depth=a.depth, passes=a.passes, feed=a.feed, end_mill=a.end_mill)
    found = mill(wired, a.face, tools)
    out = Path(a.out) if a.out else folder / "milling"
    written = []
    try:
        out.mkdir(parents=True, exist_ok=True)
        for name, text in mill_files(found, wired.design.name).items():
            write_given(out / name, text.encode())
            written.append(str(out / name))
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(out), "Choose another folder") from error
    data = {
        "face": found.face,
        "mirrored": found.mirrored,
        "files": written[:-1],
        "picture": written[-1],
        "minutes": round(found.minutes, 1),
        "faults": found.faults,
        "wire_links": [{"net": k.net, "from_mm": k.a, "to_mm": k.b} for k in found.links],
        "cautions": CAUTIONS,
    }
    lines = [
        f"Wrote {len(found.jobs)} files to {out}: the {found.face}, about {found.minutes:.0f} minutes at the mill."
    ]
    if not found.links:
        lines.append("No wire is needed: the milled face joins every net.")
    if found.mirrored:
        lines.append("The bottom lies up: all is mirrored left to right.")
    lines += [f"Fault: {fault}" for fault in found.faults]
    lines += [
        f"Wire link: {k.net} from {k.a[0]:.2f}, {k.a[1]:.2f} to {k.b[0]:.2f}, {k.b[1]:.2f} mm" for k in found.links
    ]
    if not found.faults:
        lines.append("Swept back: every net is cut free, and none loses copper.")
    lines.append(f"What the cut leaves is drawn in {written[-1]}.")
    lines += CAUTIONS
    return (FOUND if found.faults else FINE), data, "\n".join(lines)
