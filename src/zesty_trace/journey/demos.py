"""The demo projects: their facts, their tables, and a project made of them as a user would make it."""

from __future__ import annotations

import tomllib
from datetime import date, timedelta
from importlib.resources import files
from pathlib import Path

from zesty_trace.core.board.outline import set_form
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Form, ImageSpec, TemplateHole
from zesty_trace.core.quantities import nm
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.errors import InputError, StoreError
from zesty_trace.files import write_inside
from zesty_trace.stations import DEMOS
from zesty_trace.store.project import ProjectFolder

DEMO = "proofing"
DEMO_MARK = ".zesty-trace-demo"


def demo_tables(demo: str = DEMO) -> tuple[str, str]:
    """Return the two tables of a demo: its parts and its wiring."""
    root = files("zesty_trace") / "data" / "demo" / demo
    return (root / "parts.csv").read_text("utf-8"), (root / "wiring.csv").read_text("utf-8")


def demo_base(today: date, demo: str = DEMO) -> Design:
    """Return the facts of a demo, without parts."""
    root = files("zesty_trace") / "data" / "demo" / demo
    facts = tomllib.loads((root / "demo.toml").read_text("utf-8"))
    needed = today + timedelta(weeks=facts["weeks_until_needed"])
    needed += timedelta(days=(4 - needed.weekday()) % 7)
    template = tuple(
        TemplateHole(ref=ref, x_nm=nm(x), y_nm=nm(y), angle_mdeg=round(turn * 1000))
        for ref, (x, y, turn) in facts["template"].items()
    )
    design = edits.set_brief(
        edits.set_name(Design(variants=tuple(facts.get("variants", ()))), facts["name"]),
        purpose=facts["purpose"],
        quantity=facts["quantity"],
        needed_by=needed.isoformat(),
        budget_eur=float(facts["budget_eur"]),
        supply_v=facts["supply_v"],
        supply_limit_a=facts["supply_limit_a"],
        ambient_c=float(facts["ambient_c"]),
        humidity_pct=float(facts["humidity_pct"]),
        case_width_nm=nm(facts["width_mm"]),
        case_height_nm=nm(facts["height_mm"]),
        case_depth_nm=nm(facts["depth_mm"]),
        template=template,
        facts=facts["facts"],
    )
    if form := facts.get("form"):
        wide, inside = nm(facts["width_mm"]), nm(form.get("inside_mm", 0))
        design = set_form(design, Form(shape=form["shape"], width_nm=wide, inside_nm=inside))
    images = [ImageSpec(file=facts["image"], target=facts["target"])] if "image" in facts else []
    return edits.set_images(edits.set_build(design, variant=facts["variant"], alloy=facts["alloy"]), images)


def create_demo(folder: Path, today: date, demo: str = DEMO) -> Design:
    """Make a demo project in an empty folder, by importing its two tables as a user would. Return its design.

    InputError for a demo that does not exist.
    """
    if demo not in DEMOS:
        raise InputError(f"There is no demo “{demo}”", demo, f"Known: {', '.join(DEMOS)}")
    root = files("zesty_trace") / "data" / "demo" / demo
    catalogue = shipped()
    texts = [(root / name).read_text("utf-8") for name in ("parts.csv", "wiring.csv")]
    design = place_rest(Wired(import_prototype(texts[0], texts[1], catalogue, demo_base(today, demo)), catalogue))
    if folder.exists() and any(folder.iterdir()):
        raise StoreError("The folder of the demo holds something else", str(folder), "Move it away")
    kept = {DEMO_MARK: f"{demo}\n".encode()}
    kept |= {name: (root / name).read_bytes() for name in ("parts.csv", "wiring.csv")}
    market = files("zesty_trace") / "data" / "suppliers"
    kept |= {f"suppliers/{e.name}": e.read_bytes() for e in market.iterdir() if e.name.endswith((".toml", ".csv"))}
    beside = {"stock.csv": "stock.csv", "rates.toml": "rates.toml", "slipway.toml": "houses/slipway.toml"}
    kept |= {to: (root / name).read_bytes() for name, to in beside.items() if (root / name).is_file()}
    kept |= {f"firmware/{e.name}": e.read_bytes() for e in root.iterdir() if e.name.endswith(".hex")}
    with ProjectFolder.create(folder, design):
        try:
            for name, data in kept.items():
                write_inside(folder, name, data)
        except OSError as error:
            raise StoreError(
                f"Could not write the demo: {error}", str(folder), "Free some space, then --reset"
            ) from error
    return design
