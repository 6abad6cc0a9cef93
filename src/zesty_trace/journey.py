"""What the window and the command line both do: the demo project, the findings of all stations, flashing, measuring.

No interface code. Each function takes values and returns values; devices are reached through their protocols.
"""

from __future__ import annotations

import tempfile
import tomllib
from collections.abc import Iterable, Mapping
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import date, timedelta
from importlib.resources import files
from pathlib import Path

from zesty_trace.core.assembly import oven, profiles
from zesty_trace.core.bench.plan import BenchPlan, make_plan
from zesty_trace.core.bench.run import BoardResult, Instruments, run_plan
from zesty_trace.core.bench.simulated import demo_faults
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.catalogue.kinds import Catalogue, Kind, shipped, with_user_parts
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, ImageSpec, TemplateHole, to_json
from zesty_trace.core.findings import Finding, Mend, Severity, with_acceptance
from zesty_trace.core.firmware.image import Image, fit_findings, pages_of, read_image
from zesty_trace.core.firmware.targets import Target, find_target
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.ordering.quote import Offer, order_findings, order_of, parse_date, quote
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm, nm
from zesty_trace.core.review.prototype import prototype_findings
from zesty_trace.core.review.rules import review
from zesty_trace.core.schematic.wiring_csv import import_prototype, own_supply_v
from zesty_trace.devices.instruments import ScpiBench
from zesty_trace.devices.usart_bootloader import Bootloader, Link, blocks_of, flash_image, open_port
from zesty_trace.errors import DeviceError, EditError, InputError, StoreError, ZestyError
from zesty_trace.standins.instruments import fault_argument
from zesty_trace.standins.launch import running
from zesty_trace.stations import DEMOS, STATIONS
from zesty_trace.store.own import own_parts_path
from zesty_trace.store.project import ProjectFolder, write_atomically
from zesty_trace.store.records import BoardRecord, Records, serial_number

DEMO = "proofing"


def project_catalogue(folder: Path | None) -> Catalogue:
    """Return the shipped catalogue with the user's own part kinds, and over them those that travel in the project."""
    return with_user_parts(shipped(), own_parts_path(), *([folder / "parts"] if folder else []))


def keep_kind(kind: Kind, folder: Path) -> Path:
    """Keep a kind of the user's in their own folder and in the project. StoreError if it cannot be written."""
    from zesty_trace.core.catalogue.make_part import write_kind

    data = write_kind(kind).encode()
    for place in (own_parts_path(), folder / "parts"):
        try:
            place.mkdir(parents=True, exist_ok=True)
            write_atomically(place / f"{kind.id}.toml", data)
        except OSError as error:
            raise StoreError(
                f"Could not keep {kind.id}: {error.strerror}", str(place), "Check the folder's rights"
            ) from error
    return folder / "parts" / f"{kind.id}.toml"


def carry_kinds(design: Design, folder: Path, catalogue: Catalogue) -> list[str]:
    """Write the user's own kinds that a design uses into its project, so that they travel along; return their ids.

    StoreError if one cannot be written.
    """
    from zesty_trace.core.catalogue.make_part import write_kind

    base, carried = shipped(), []
    for kind_id in {p.kind for p in design.parts.values()}:
        path = folder / "parts" / f"{kind_id}.toml"
        if kind_id in base.kinds or kind_id not in catalogue.kinds:
            continue
        if any(f"[{kind_id}]" in p.read_text("utf-8") for p in (folder / "parts").glob("*.toml")):
            continue
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(path, write_kind(catalogue.kinds[kind_id]).encode())
        except OSError as error:
            raise StoreError(f"Could not keep {kind_id}: {error.strerror}", str(path), "Check the folder") from error
        carried.append(kind_id)
    return carried


def read_tables(parts: Path, wiring: Path) -> tuple[str, str]:
    """Return the text of the two tables. InputError names the file that cannot be read."""
    texts = []
    for path in (parts, wiring):
        try:
            texts.append(path.read_text("utf-8-sig"))
        except OSError as error:
            raise InputError(f"Could not read: {error.strerror}", str(path), "Choose another file") from error
        except UnicodeDecodeError as error:
            raise InputError("The file is no plain text", str(path), "Save it as CSV in UTF-8") from error
    return texts[0], texts[1]


def import_files(
    parts: Path, wiring: Path, catalogue: Catalogue, base: Design | None = None, names: Mapping[str, str] | None = None
) -> Design:
    """Return the design in two CSV files. InputError names the file, line and column at fault."""
    return import_prototype(*read_tables(parts, wiring), catalogue, base, (parts.name, wiring.name), names)


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
        purpose=facts["purpose"], quantity=facts["quantity"], needed_by=needed.isoformat(),
        budget_eur=float(facts["budget_eur"]), supply_v=facts["supply_v"], supply_limit_a=facts["supply_limit_a"],
        ambient_c=float(facts["ambient_c"]), humidity_pct=float(facts["humidity_pct"]),
        case_width_nm=nm(facts["width_mm"]), case_height_nm=nm(facts["height_mm"]),
        case_depth_nm=nm(facts["depth_mm"]), template=template, facts=facts["facts"],
    )  # fmt: skip
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
    design = place_rest(import_prototype(texts[0], texts[1], catalogue, demo_base(today, demo)), catalogue)
    with ProjectFolder.create(folder, design):
        for name in ("parts.csv", "wiring.csv"):
            (folder / name).write_text((root / name).read_text("utf-8"), "utf-8")
        for entry in root.iterdir():
            if entry.name.endswith(".hex"):
                (folder / "firmware" / entry.name).write_bytes(entry.read_bytes())
    return design


# Findings and progress ------------------------------------------------------------------------------------------------


def brief_findings(design: Design, catalogue: Catalogue, today: date | None = None) -> list[Finding]:
    """Return what the brief lacks or contradicts, and where the prototype's readings differ from the model."""
    found = []
    b = design.brief

    def add(key: str, title: str, detail: str) -> None:
        why = "Later stations check against the brief; what it does not say cannot be checked."
        found.append(Finding("brief", key, Severity.FIX, title, detail, why, "common practice", "brief"))

    if not design.parts:
        add("parts", "There are no parts yet", "Import the prototype: parts.csv and wiring.csv.")
    if b.quantity < 1:
        add("quantity", "No boards are asked for", "Set the quantity to 1 or more.")
    needed = parse_date(b.needed_by)
    if not needed:
        add("date", "There is no date", "Set the day on which the boards are needed.")
    elif today and needed < today:
        add("date", f"The boards were needed by {needed:%d %b %Y}", "That day is over: set a new one.")
    if b.budget_eur <= 0:
        add("budget", "There is no budget", "Set what the boards may cost.")
    own = own_supply_v(design.parts, catalogue)
    if own and abs(own - b.supply_v) > 0.5:
        why = "Every voltage and all the heat are worked out from the supply."
        mend = Mend(f"Set the supply to {own:g} V", lambda d: edits.set_brief(d, supply_v=own))
        title = f"The brief says {b.supply_v:g} V, the inlet gives {own:g} V"
        detail = "Nothing on the board asks the source for more. Set the supply, or add a negotiation chip."
        found.append(
            Finding(
                "brief",
                "own supply",
                Severity.FIX,
                title,
                detail,
                why,
                "USB Type-C: 5 V by default",
                "brief",
                mend=mend,
            )
        )
    for hole in b.template:
        if not (0 <= hole.x_nm <= b.case_width_nm and 0 <= hole.y_nm <= b.case_height_nm):
            add(
                f"template {hole.ref}",
                f"The case holds {hole.ref} outside the board",
                "Check its place, or the board's size.",
            )
    for ref, part in design.parts.items():
        kind = catalogue.kind(part.kind)
        height = catalogue.package(part.package or kind.packages[0]).height
        if height > mm(b.case_depth_nm):
            add(
                f"height {ref}", f"{ref} is {height:g} mm tall, the case has {mm(b.case_depth_nm):g} mm",
                "Take a lower package, lay it down, or choose a deeper case.",
            )  # fmt: skip
    return [*found, *prototype_findings(design, catalogue)]


def offers_for(design: Design, today: date, own_houses: Path | None = None) -> list[Offer]:
    """Return the offers of all houses for the brief."""
    b = design.brief
    return quote(load_houses(own_houses), order_of(design), today, parse_date(b.needed_by), b.budget_eur)


def heat_run(design: Design, catalogue: Catalogue) -> tuple[oven.Run, list[oven.Measure], profiles.AlloyWindow]:
    """Return the simulated oven run of the build's alloy, and its judged numbers. EditError without an outline."""
    if not design.board.outline:
        raise EditError("The board has no outline yet", "layout", "Place the parts first")
    window = profiles.WINDOWS[design.build.alloy]
    run = oven.simulate(design, profiles.target_profile(design.build.alloy, 25.0), 25.0)
    return run, oven.judge(run, window, oven.part_limit_c(design, catalogue)[0]), window


def image_of(design: Design, folder: Path) -> tuple[Image, Target] | None:
    """Return the image and target of the build's variant, or None if the design names none."""
    spec = next((i for i in design.images if i.variant in ("", design.build.variant)), None)
    if spec is None:
        return None
    target = find_target(spec.target)
    return read_image(folder / "firmware" / spec.file, spec.base_address or target.flash_start), target


def image_findings(design: Design, folder: Path | None) -> list[Finding]:
    """Return what keeps the image from being flashed."""
    if folder is None:
        return []
    try:
        chosen = image_of(design, folder)
    except InputError as error:
        why = "Without an image no board can be flashed."
        return [
            Finding("image", "read", Severity.STOP, error.message, f"{error.where}. {error.hint}", why, "file", "flash")
        ]
    return fit_findings(*chosen) if chosen else []


def station_findings(
    station: str, design: Design, catalogue: Catalogue, folder: Path | None, today: date
) -> list[Finding]:
    """Return the findings of one station."""
    if station == "brief":
        return brief_findings(design, catalogue, today)
    if station == "schematic":
        return review(design, catalogue) if design.parts else []
    if station == "layout":
        return check_board(design, catalogue)
    if station == "order" and design.board.outline:
        return order_findings(design, offers_for(design, today, folder / "houses" if folder else None))
    if station == "assembly" and design.board.outline:
        _, measures, window = heat_run(design, catalogue)
        return oven.heat_findings(measures, window)
    if station == "flash":
        return image_findings(design, folder)
    return []


def all_findings(design: Design, catalogue: Catalogue, folder: Path | None, today: date) -> dict[str, list[Finding]]:
    """Return station -> findings."""
    found: dict[str, list[Finding]] = {}
    for station in STATIONS:
        try:
            judged = station_findings(station, design, catalogue, folder, today)
            found[station] = with_acceptance(judged, design.accepted)
        except ZestyError as error:
            found[station] = [_unreadable(station, error)]
    return found


def _unreadable(station: str, error: ZestyError) -> Finding:
    """Return the finding that says why a station cannot be judged."""
    detail = f"{error.where}. {error.hint}." if error.where else error.hint
    why = "What cannot be read cannot be checked."
    return Finding("unreadable", station, Severity.STOP, error.message, detail, why, "project folder", station)


def check_known(design: Design, catalogue: Catalogue) -> None:
    """Refuse a design whose part kinds or packages the catalogue does not have. InputError names part and kind."""
    for part in design.parts.values():
        try:
            kind = catalogue.kind(part.kind)
            catalogue.package(part.package or kind.packages[0])
        except InputError as error:
            hint = f"{error.hint} If it is one of your own, put its file back into the project's parts folder"
            raise InputError(f"{part.ref}: {error.message}", "design.json", hint) from error


def bench_findings(boards: Iterable[BoardRecord]) -> list[Finding]:
    """Return one finding for each board whose last measurement failed."""
    found = []
    for board in boards:
        measured = board.last("measured")
        if measured and measured.verdict == "fail":
            why = "A board that fails a test is mended or kept apart; the reading says where to look first."
            found.append(
                Finding(
                    "measured", board.serial, Severity.FIX, f"{board.serial} failed", f"{measured.summary}. Mend, measure again.",
                    why, "limits of the test plan", "bench",
                )
            )  # fmt: skip
    return found


def stations_done(
    design: Design, findings: dict[str, list[Finding]], boards: Iterable[BoardRecord], zip_exists: bool
) -> int:
    """Return how many stations, from the first on, the board has really passed."""
    built = list(boards)

    def clear(station: str) -> bool:
        return not any(f.severity <= Severity.FIX for f in findings.get(station, []))

    passed = [
        bool(design.parts) and clear("brief"),
        bool(design.parts) and clear("schematic"),
        bool(design.board.tracks) and clear("layout"),
        zip_exists,
        any(b.last("assembled") for b in built),
        any(b.last("flashed") for b in built),
        any(b.last("measured") for b in built),
        bool(design.changes) and all(c.done for c in design.changes),
    ]
    return passed.index(False) if False in passed else len(passed)


# Flash and bench ------------------------------------------------------------------------------------------------------


def flash_board(
    link: Link, where: str, image: Image, target: Target, serial: str, records: Records | None, report: Report = quiet
) -> None:
    """Erase, write, read back and verify one board; success and failure are both recorded. DeviceError on failure."""
    blocks = blocks_of([(s.address, s.data) for s in image.segments])
    data = {"image": image.name, "sha256": image.sha256, "bytes": image.size, "target": target.name}
    bad = [f for f in fit_findings(image, target) if f.severity is Severity.STOP]
    if bad:
        link.close()
        raise InputError(bad[0].title, image.name, bad[0].detail)
    try:
        with Bootloader(link, where) as boot:
            flash_image(boot, blocks, pages_of(image, target), target.product_id, report)
    except DeviceError as error:
        if records:
            records.add(serial, "flashed", f"{error.message}", "fail", data)
        raise
    if records:
        records.add(serial, "flashed", f"{image.name} verified, sha256 {image.sha256[:12]}", "pass", data)


def flash_simulated(
    image: Image, target: Target, serial: str, records: Records | None, fault: str = "none", report: Report = quiet
) -> None:
    """Flash a stand-in target that runs as a process of its own."""
    with running("target", "--target", target.name, "--fault", fault) as said:
        flash_board(open_port(said["port"]), said["port"], image, target, serial, records, report)


@dataclass(frozen=True)
class Batch:
    """The boards of one revision and variant, by number."""

    revision: str
    variant: str
    quantity: int

    def serials(self) -> list[str]:
        """Return their serial numbers."""
        return [serial_number(self.revision, n) for n in range(1, self.quantity + 1)]


def batch_of(design: Design) -> Batch:
    """Return the batch that the brief asks for."""
    return Batch(design.revision, design.build.variant, design.brief.quantity)


def measure_boards(
    plan: BenchPlan, bench: Instruments, serials: list[str], records: Records | None, report: Report = quiet
) -> list[BoardResult]:
    """Run the plan on boards one after the other, recording each as it ends."""
    results = []
    for k, serial in enumerate(serials):

        def part(share: float, text: str, k: int = k) -> bool:
            return report((k + share) / len(serials), text)

        result = run_plan(plan, bench, serial, part)
        results.append(result)
        if records:
            data = {"readings": [r.as_dict() for r in result.readings]}
            records.add(serial, "measured", result.summary(), "pass" if result.passed else "fail", data)
    return results


def measure_simulated(
    design: Design, catalogue: Catalogue, serials: list[str], records: Records | None, report: Report = quiet,
    with_faults: bool = True,
) -> list[BoardResult]:  # fmt: skip
    """Measure stand-in boards with stand-in instruments that run as a process of their own."""
    variant = design.build.variant
    plan = make_plan(design, catalogue, variant)
    faults = demo_faults(design.fitted(variant), catalogue, len(serials)) if with_faults else {}
    options = [w for n, f in faults.items() for w in ("--fault", fault_argument(serials[n - 1], f))]
    with ExitStack() as stack:
        folder = stack.enter_context(tempfile.TemporaryDirectory())
        path = Path(folder) / "design.json"
        path.write_bytes(to_json(design))
        said = stack.enter_context(running("instruments", "--design", str(path), "--variant", variant, *options))
        bench = stack.enter_context(ScpiBench(said["meter"], said["supply"], said["bus"]))
        return measure_boards(plan, bench, serials, records, report)


def keep_revision(folder: Path, design: Design) -> Path:
    """Keep the design of a finished revision beside the project. StoreError if it cannot be written."""
    path = folder / f"design-rev-{design.revision}.json"
    try:
        write_atomically(path, to_json(design))
    except OSError as error:
        raise StoreError(
            f"Could not keep rev {design.revision}: {error.strerror}", str(path), "Free some space"
        ) from error
    return path
