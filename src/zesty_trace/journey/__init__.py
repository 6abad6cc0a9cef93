"""What the window and the command line both do: the demo project, the findings of all stations, flashing, measuring.

No interface code. Each function takes values and returns values; devices are reached through their protocols.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from datetime import date, timedelta
from importlib.resources import files
from pathlib import Path

from zesty_trace.core.assembly import oven, profiles
from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.catalogue.kinds import Catalogue, Kind, kinds_of, shipped, with_user_parts
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, ImageSpec, TemplateHole, to_json
from zesty_trace.core.findings import Finding, Mend, Severity, with_acceptance
from zesty_trace.core.firmware.image import Image, fit_findings, image_inside
from zesty_trace.core.firmware.targets import Target, find_target
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.ordering.quote import Offer, order_findings, order_of, parse_date, quote
from zesty_trace.core.quantities import mm, nm
from zesty_trace.core.review.prototype import prototype_findings
from zesty_trace.core.review.rules import review
from zesty_trace.core.schematic.wiring_csv import import_prototype, own_supply_v, value_problem
from zesty_trace.errors import EditError, InputError, StoreError, ZestyError
from zesty_trace.files import names_inside, read_given, read_inside, text_of, write_given, write_inside
from zesty_trace.names import check_name
from zesty_trace.stations import DEMOS, STATIONS
from zesty_trace.store.board import BoardRecord, Wanted
from zesty_trace.store.own import own_parts_path
from zesty_trace.store.project import ProjectFolder

DEMO = "proofing"
DEMO_MARK = ".zesty-trace-demo"


def project_catalogue(folder: Path | None) -> Catalogue:
    """Return the shipped catalogue with the user's own part kinds, and over them those that travel in the project."""
    own = own_parts_path()
    places = [(own.parent, own.name), *([(folder, "parts")] if folder else [])]
    return with_user_parts(shipped(), *(p for p in places if p[0].is_dir()))


def keep_kind(kind: Kind, folder: Path) -> Path:
    """Keep a kind of the user's in their own folder and in the project. StoreError if it cannot be written."""
    from zesty_trace.core.catalogue.make_part import write_kind

    check_name(kind.id, "kind", "part kind")
    data, own = write_kind(kind).encode(), own_parts_path()
    try:
        own.mkdir(parents=True, exist_ok=True)
        folder.mkdir(parents=True, exist_ok=True)
        write_given(own / f"{kind.id}.toml", data)
        write_inside(folder, f"parts/{kind.id}.toml", data)
    except OSError as error:
        if isinstance(error, StoreError):
            raise
        raise StoreError(
            f"Could not keep {kind.id}: {error.strerror}", str(folder), "Check the folder's rights"
        ) from error
    return folder / "parts" / f"{kind.id}.toml"


def carry_kinds(design: Design, folder: Path, catalogue: Catalogue) -> list[str]:
    """Write the user's own kinds that a design uses into its project, so that they travel along; return their ids.

    StoreError if one cannot be written.
    """
    from zesty_trace.core.catalogue.make_part import write_kind

    base = shipped()
    wanted = {p.kind for p in design.parts.values() if p.kind not in base.kinds and p.kind in catalogue.kinds}
    if not wanted:
        return []
    folder.mkdir(parents=True, exist_ok=True)
    there: set[str] = set()
    for name in names_inside(folder, "parts", ".toml"):
        there |= set(kinds_of(read_inside(folder, f"parts/{name}", "parts"), name, base))
    carried = sorted(wanted - there)
    for kind_id in carried:
        try:
            write_inside(folder, f"parts/{kind_id}.toml", write_kind(catalogue.kinds[kind_id]).encode())
        except OSError as error:
            if isinstance(error, StoreError):
                raise
            raise StoreError(
                f"Could not keep {kind_id}: {error.strerror}", str(folder / "parts"), "Check the folder"
            ) from error
    return carried


def read_tables(parts: Path, wiring: Path) -> tuple[str, str]:
    """Return the text of the two tables. InputError names the file that cannot be read."""
    return text_of(read_given(parts, "table"), str(parts)), text_of(read_given(wiring, "table"), str(wiring))


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


# Findings and progress ------------------------------------------------------------------------------------------------


def brief_findings(wired: Wired, today: date | None = None) -> list[Finding]:
    """Return what the brief lacks or contradicts, and where the prototype's readings differ from the model."""
    design = wired.design
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
    own = own_supply_v(design.parts, wired.catalogue)
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
        kind = wired.catalogue.kind(part.kind)
        height = wired.catalogue.package(part.package or kind.packages[0]).height
        if height > mm(b.case_depth_nm):
            add(
                f"height {ref}",
                f"{ref} is {height:g} mm tall, the case has {mm(b.case_depth_nm):g} mm",
                "Take a lower package, lay it down, or choose a deeper case.",
            )
    return [*found, *prototype_findings(wired)]


def offers_for(design: Design, today: date, project: Path | None = None) -> list[Offer]:
    """Return the offers of all houses for the brief."""
    b = design.brief
    return quote(load_houses(project), order_of(design), today, parse_date(b.needed_by), b.budget_eur)


def heat_run(wired: Wired) -> tuple[oven.Run, list[oven.Measure], profiles.AlloyWindow]:
    """Return the simulated oven run of the build's alloy, and its judged numbers. EditError without an outline."""
    design = wired.design
    if not design.board.outline:
        raise EditError("The board has no outline yet", "layout", "Place the parts first")
    window = profiles.WINDOWS[design.build.alloy]
    run = oven.simulate(design, profiles.target_profile(design.build.alloy, 25.0), 25.0)
    return run, oven.judge(run, window, oven.part_limit_c(wired)[0]), window


def image_of(design: Design, folder: Path) -> tuple[Image, Target] | None:
    """Return the image and target of the build's variant, or None if the design names none."""
    spec = image_spec(design)
    if spec is None:
        return None
    target = find_target(spec.target)
    return image_inside(folder, spec.file, spec.base_address or target.flash_start), target


def image_spec(design: Design) -> ImageSpec | None:
    """Return the image that boards of the build's variant take: their own, else the one for all."""
    return next((i for v in (design.build.variant, "") for i in design.images if i.variant == v), None)


def wanted_of(design: Design, folder: Path, plan: str = "") -> Wanted:
    """Return what each board of the batch must hold and be measured by; an image that cannot be read is not asked for."""
    try:
        chosen = image_of(design, folder)
    except InputError:
        chosen = None
    return Wanted(chosen[0].sha256 if chosen else "", plan)


def controller_findings(wired: Wired) -> list[Finding]:
    """Return whether the image is for the controller that is on boards of the build's variant."""
    design = wired.design
    spec = image_spec(design)
    fitted = design.fitted(design.build.variant)
    chips = {
        r: wired.catalogue.kind(p.kind).target for r, p in fitted.parts.items() if wired.catalogue.kind(p.kind).target
    }
    if spec is None or not chips or spec.target in chips.values():
        return []
    said = ", ".join(f"{r} is a {t}" for r, t in chips.items())
    why = "The programmer refuses another chip at best; at worst the pins of the wrong one are driven."
    return [
        Finding(
            "image",
            "controller",
            Severity.STOP,
            f"The image is for {spec.target}, which is not on the board",
            f"{said}. Choose the image for it, or the right target.",
            why,
            "part kinds of the design",
            "flash",
            refs=tuple(chips),
        )
    ]


def image_findings(wired: Wired, folder: Path | None) -> list[Finding]:
    """Return what keeps the image from being flashed."""
    design = wired.design
    if folder is None:
        return []
    try:
        chosen = image_of(design, folder)
    except InputError as error:
        why = "Without an image no board can be flashed."
        return [
            Finding("image", "read", Severity.STOP, error.message, f"{error.where}. {error.hint}", why, "file", "flash")
        ]
    return [*controller_findings(wired), *fit_findings(*chosen)] if chosen else []


def station_findings(station: str, wired: Wired, folder: Path | None, today: date) -> list[Finding]:
    """Return the findings of one station."""
    design = wired.design
    if station == "brief":
        return brief_findings(wired, today)
    if station == "schematic":
        return review(wired) if design.parts else []
    if station == "layout":
        return check_board(wired)
    if station == "order" and design.board.outline:
        return order_findings(design, offers_for(design, today, folder))
    if station == "assembly" and design.board.outline:
        _, measures, window = heat_run(wired)
        return oven.heat_findings(measures, window)
    if station == "flash":
        return image_findings(wired, folder)
    return []


def all_findings(wired: Wired, folder: Path | None, today: date) -> dict[str, list[Finding]]:
    """Return station -> findings."""
    design = wired.design
    found: dict[str, list[Finding]] = {}
    for station in STATIONS:
        try:
            judged = station_findings(station, wired, folder, today)
            found[station] = with_acceptance(judged, design.accepted)
        except ZestyError as error:
            found[station] = [_unreadable(station, error)]
    return found


def _unreadable(station: str, error: ZestyError) -> Finding:
    """Return the finding that says why a station cannot be judged."""
    detail = f"{error.where}. {error.hint}." if error.where else error.hint
    why = "What cannot be read cannot be checked."
    return Finding("unreadable", station, Severity.STOP, error.message, detail, why, "project folder", station)


def check_known(wired: Wired) -> None:
    """Refuse a design whose kinds, packages, pins or values the catalogue does not have. InputError names part and kind."""
    design = wired.design
    for part in design.parts.values():
        try:
            kind = wired.catalogue.kind(part.kind)
            wired.catalogue.package(part.package or kind.packages[0])
            for value in (part.value, *part.values.values()):
                if wrong := value_problem(kind, value):
                    raise InputError(f"{part.ref}: {wrong[0]}", "design.json", wrong[1])
        except InputError as error:
            if error.where == "design.json":
                raise
            hint = f"{error.hint} If it is one of your own, put its file back into the project's parts folder"
            raise InputError(f"{part.ref}: {error.message}", "design.json", hint) from error
    known = {ref: {s.number for s in wired.catalogue.kind(p.kind).pins} for ref, p in design.parts.items()}
    for net, pins in (*design.nets.items(), ("not connected", design.not_connected)):
        for pin in pins:
            if pin.number not in known[pin.ref]:
                kind_id = design.parts[pin.ref].kind
                raise InputError(
                    f"{net}: {pin.ref} ({kind_id}) has no pin {pin.number}", "design.json", "Connect another pin"
                )


def bench_findings(boards: Iterable[BoardRecord], wanted: Wanted | None = None) -> list[Finding]:
    """Return one finding for each board that stands as failed."""
    found = []
    for board in boards:
        standing = board.standing(wanted)
        if standing.verdict == "fail":
            said = " on a simulated bench" if standing.simulated else ""
            why = "A board that fails a test is mended or kept apart; the reading says where to look first."
            found.append(
                Finding(
                    "measured",
                    board.serial,
                    Severity.FIX,
                    f"{board.serial} failed{said}",
                    f"{standing.why}. Mend, measure again.",
                    why,
                    "limits of the test plan",
                    "bench",
                )
            )
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
        any(b.content().verdict == "pass" for b in built),
        any(b.standing().verdict == "pass" for b in built),
        bool(design.changes) and all(c.done for c in design.changes),
    ]
    return passed.index(False) if False in passed else len(passed)


def keep_revision(folder: Path, design: Design) -> Path:
    """Keep the design of a finished revision beside the project. StoreError if it cannot be written."""
    check_name(design.revision, "revision", "revision")
    path = folder / f"design-rev-{design.revision}.json"
    try:
        write_inside(folder, path.name, to_json(design))
    except OSError as error:
        raise StoreError(
            f"Could not keep rev {design.revision}: {error.strerror}", str(path), "Free some space"
        ) from error
    return path
