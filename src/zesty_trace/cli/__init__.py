"""The command line: the same core, without a window. Exit status 0 fine, 1 findings or failures, 2 bad input."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from zesty_trace import __version__, logs
from zesty_trace.cli import (
    boards,
    brief,
    building,
    buying,
    copper,
    fields,
    files,
    numbers,
    packages,
    quoting,
    recording,
    scheduling,
    sheet,
)
from zesty_trace.cli import object as objects
from zesty_trace.cli.common import BAD, FINE, STOPPED, Answer, Handler, elsewhere, orderly_end
from zesty_trace.cli.terminal import shown
from zesty_trace.errors import Cancelled, ZestyError

VALUED = ("--project", "--like", "--height", "--density")  # options of `zt package` that take a value
SCHOOLS = ("surface-mount first", "lowest first", "as listed")


def _schema(a: argparse.Namespace) -> Answer:
    from zesty_trace.files import write_given
    from zesty_trace.store.project import project_schema

    text = json.dumps(project_schema(), indent=1) + "\n"
    write_given(Path(a.out), text.encode())
    return FINE, {"schema": a.out}, f"Wrote {a.out}"


def _shots(a: argparse.Namespace) -> Answer:
    done = subprocess.run([sys.executable, "-m", "zesty_trace", "demo", "--shots", a.out], check=False)
    return done.returncode, {"folder": a.out}, f"Pictures in {a.out}"


def _options_first(arguments: Sequence[str]) -> list[str]:
    """Return the words of `zt package` with its options before the rest: among optional words they are not found."""
    if not arguments or arguments[0] != "package":
        return list(arguments)
    flags: list[str] = []
    rest: list[str] = []
    words = iter(arguments[1:])
    for word in words:
        if word in VALUED:
            flags += [word, *[w for w in [next(words, None)] if w is not None]]
        else:
            (flags if word.startswith("--") else rest).append(word)
    return ["package", *flags, *rest]


def _add_layout(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the commands that place, route and pour."""
    add(
        "place",
        boards.place_command,
        "place what is not placed, where links are short and what belongs near is near",
        project,
        ("--all", {"action": "store_true", "help": "place anew whatever is not held; the machine's copper goes"}),
        ("--seed", {"type": int, "default": 1, "metavar": "N", "help": "another one gives another placing"}),
    )
    add(
        "route",
        boards.route_command,
        "place what is not placed and route what is open; copper that is there is kept",
        project,
        ("--net", {"action": "append", "help": "only this net (more than once)"}),
        ("--again", {"action": "store_true", "help": "take off what the machine routed, and route anew"}),
    )
    add(
        "faces",
        copper.faces_command,
        "what all surface parts on one face would take, and what two heatings cost",
        project,
        ("--apply", {"action": "store_true", "help": "do it, if they all fit"}),
    )
    add(
        "isolate",
        fields.isolate_command,
        "what holds a pad to its net, and whether a blade reaches it",
        project,
        ("net", {"help": "the net"}),
        ("pin", {"help": "the pin, for example U3.14"}),
    )
    add(
        "resistance",
        fields.resistance_command,
        "resistance of the copper between two places of a net",
        project,
        ("one", {"metavar": "A", "help": "a pin, for example J1.1, or a place in mm: 12.5,8,top"}),
        ("two", {"metavar": "B", "help": "another pin or place of its net"}),
    )
    add("heat", fields.heat_command, "how warm the board gets below each part that heats", project)
    add(
        "current",
        fields.current_command,
        "how dense the current is in the copper of a net, and what it loses",
        project,
        ("net", {"nargs": "?", "default": "", "metavar": "NET", "help": "the busiest without it"}),
    )
    add("tidy", copper.tidy_command, "make routed copper shorter, with fewer vias", project)
    add(
        "pour",
        copper.pour_command,
        "what the pours fill",
        project,
        (
            "--stitch",
            {"nargs": "?", "const": "", "metavar": "PITCH", "help": "tie the pours of all layers together with vias"},
        ),
    )


def _add_object(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the commands about the board's outline, what it goes into, and who makes it."""
    add(
        "outline",
        boards.outline_command,
        "the board's outline: from numbers, from a drawing, or as it is",
        project,
        ("--rectangle", {"nargs": 2, "metavar": ("WIDE", "HIGH"), "help": "for example 80mm 56mm"}),
        ("--corner", {"default": "0mm", "help": "radius of a rectangle's corners"}),
        ("--circle", {"metavar": "ACROSS", "help": "diameter"}),
        ("--ring", {"nargs": 2, "metavar": ("OUTSIDE", "INSIDE"), "help": "both diameters"}),
        ("--polygon", {"nargs": 2, "metavar": ("SIDES", "ACROSS"), "help": "regular, across its corners"}),
        ("--dxf", {"help": "closed lines of a drawing: the largest is the outline, those inside it are cut-outs"}),
        ("--svg", {"help": "as --dxf, from an SVG drawing"}),
        (
            "--say",
            {
                "action": "append",
                "default": [],
                "metavar": "SENTENCE",
                "help": "cut-out 10 x 5 at 20, 20; slot …; keep-out …; raise U1 4.3",
            },
        ),
        ("--out", {"help": "write the outline as a DXF drawing"}),
    )
    add(
        "object",
        objects.object_command,
        "what the board goes into: its template and heights from a drawing, how far parts are off, a 1:1 print",
        project,
        ("--dxf", {"help": "drawing with layers OUTLINE, TEMPLATE, KEEPOUT, HEIGHT 8.5"}),
        ("--move", {"action": "store_true", "help": "move the parts of the template to their holes"}),
        ("--print", {"metavar": "FILE", "help": "write the board at 1:1 as a PDF, with a scale bar"}),
    )
    add(
        "limits",
        objects.limits_command,
        "the board rules, and those of board houses or of milling at home",
        project,
        ("--set", {"metavar": "NAME", "help": "take these rules"}),
    )


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="zt",
        description="From a proven prototype to a shelf of flashed, tested boards. Every command takes --json.",
        epilog="Exit status: 0 fine, 1 findings or failed boards, 2 bad input.",
    )
    parser.add_argument("--version", action="version", version=f"zt {__version__}")
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")

    def add(name: str, handler: Handler, text: str, *arguments: tuple[str, dict[str, Any]]) -> None:
        sub = commands.add_parser(name, help=text, description=text)
        sub.add_argument("--json", action="store_true", help="print JSON instead of text")
        sub.add_argument("--debug", action="store_true", help="show the traceback of a fault of the program")
        for flag, options in arguments:
            sub.add_argument(flag, **options)
        sub.set_defaults(handler=handler)

    project = ("project", {"help": "the project folder"})
    add(
        "new",
        sheet.new_command,
        "make a project",
        project,
        ("--name", {"help": "its name"}),
        ("--demo", {"nargs": "?", "const": "proofing", "help": "make a demo: proofing, tide-dial or sensor-node"}),
    )
    add(
        "import",
        sheet.import_command,
        "make or update a project from two CSV files",
        ("--parts", {"required": True, "help": "ref, kind, value, package, variants, notes"}),
        ("--wiring", {"required": True, "help": "net, ref, pin"}),
        ("--out", {"required": True, "help": "project folder"}),
        (
            "--as",
            {
                "action": "append",
                "default": [],
                "metavar": "WORD=KIND",
                "dest": "names",
                "help": "take a word of the kind column for a kind; remembered for later imports",
            },
        ),
    )
    add(
        "export",
        sheet.export_command,
        "write the design as two CSV files and its netlist, and its sheets as PDF or SVG",
        project,
        ("--out", {"help": "folder for the tables and the netlist"}),
        ("--pdf", {"metavar": "FILE", "help": "the sheets as one PDF"}),
        ("--svg", {"metavar": "FILE", "help": "the sheets as SVG, numbered where there are several"}),
        ("--board-dxf", {"metavar": "FILE", "help": "the board as a DXF drawing in millimetres"}),
        (
            "--board-pdf",
            {"metavar": "FILE", "help": "the board at 1:1, a page a view, backs mirrored"},
        ),
        ("--board-svg", {"metavar": "FILE", "help": "the board at 1:1 as SVG, a file a view"}),
        ("--views", {"default": "", "help": "of the board: top, bottom, silk-top, assembly-top ...; all without it"}),
    )
    add("review", sheet.review_command, "electrical review of the schematic", project)
    add(
        "mend",
        sheet.mend_command,
        "apply the mends that the review offers",
        project,
        ("--rule", {"help": "of this rule only"}),
    )
    add(
        "brief",
        brief.brief_command,
        "show what the board must be, or set it: supply=5, quantity=12, width=80",
        project,
        ("fields", {"nargs": "*", "metavar": "FIELD=VALUE", "help": f"of {', '.join(brief.FIELDS[:-1])}, fact.NAME"}),
    )
    add(
        "solve",
        sheet.solve_command,
        "voltages, currents and temperatures",
        project,
        ("--state", {"help": "operating state"}),
        ("--tolerance", {"type": sheet.sample_count, "default": 0, "metavar": "N", "help": "spread of N boards"}),
    )
    add("arrange", sheet.arrange_command, "arrange the sheet and measure it", project)
    add(
        "package",
        packages.package_command,
        "land patterns: list, show, make your own, check the fit of a part in the hand",
        ("action", {"choices": ["list", "show", "make", "table", "dxf", "fit"]}),
        ("name", {"nargs": "?", "help": "of the package"}),
        (
            "words",
            {
                "nargs": "*",
                "metavar": "WORD",
                "help": "make: family=gull length=5.8..6.2 …; fit: lead=0.6 pitch=2.54 …; else a file",
            },
        ),
        ("--project", {"metavar": "DIR", "help": "keep it in this project too, or use its packages"}),
        ("--like", {"metavar": "PACKAGE", "help": "make: begin with the dimensions of this one"}),
        ("--height", {"type": float, "default": 1.0, "help": "table, dxf: height of the part, mm"}),
        ("--density", {"choices": ["most", "nominal", "least"], "help": "show, fit: how much solder (IPC-7351B)"}),
    )
    add(
        "part",
        elsewhere(sheet.part_command),
        "check your own part kinds",
        ("action", {"choices": ["check"]}),
        ("file", {"help": "TOML file"}),
    )
    add(
        "kinds",
        numbers.kinds_command,
        "list part kinds",
        ("word", {"nargs": "?", "help": "with this in the name"}),
        ("--project", {"help": "with the kinds of a project"}),
    )
    add(
        "budget",
        numbers.budget_command,
        "what each supply gives in each state; run time and charging",
        project,
        ("--state", {"help": "operating state"}),
    )
    add("times", numbers.times_command, "reset delay, filters, bus edges, inrush, droop, coils", project)
    add("timeline", numbers.timeline_command, "play the timeline: charge and average current", project)
    add("readings", numbers.readings_command, "readings of the prototype beside the model", project)
    add(
        "list",
        numbers.list_command,
        "the wiring as sentences",
        project,
        ("--apply", {"metavar": "FILE", "help": "make the design follow this list"}),
    )
    add(
        "say",
        numbers.say_command,
        "do what a sentence says",
        project,
        ("sentence", {"nargs": "+", "help": "for example: U3.P4 - R20 330 - D7 red - GND"}),
    )
    add("find", numbers.find_command, "find parts and nets", project, ("text", {"help": "reference, value or net"}))
    add(
        "swap",
        numbers.swap_command,
        "a plug-in module beside its bare chip",
        project,
        ("ref", {"help": "the part"}),
        ("--apply", {"action": "store_true", "help": "replace one by the other"}),
    )
    _add_object(add, project)
    _add_layout(add, project)
    add("check", boards.check_command, "board review: clearances, holes, missing copper", project)
    add(
        "fab",
        boards.fab_command,
        "write the fabrication zip",
        project,
        ("--out", {"help": "folder (default: in the project)"}),
        ("--despite", {"metavar": "REASON", "help": "write it although findings stop it; the reason is recorded"}),
    )
    files.add_commands(add)
    quoting.add_commands(add, project)
    buying.add_commands(add, project)
    scheduling.add_commands(add, project)
    add(
        "assembly",
        boards.assembly_command,
        "the placing sequence",
        project,
        ("--variant", {"help": "fitted variant"}),
        ("--order", {"default": SCHOOLS[0], "choices": SCHOOLS}),
    )
    add(
        "reflow",
        boards.reflow_command,
        "simulate the heat profile",
        project,
        ("--alloy", {"choices": ["leaded", "lead-free", "low-temperature"]}),
        ("--oven-power", {"type": float, "help": "W; without it what the project says"}),
        ("--oven-litres", {"type": float, "help": "room inside; without it what the project says"}),
    )
    add(
        "assembled",
        boards.assembled_command,
        "record boards as assembled",
        project,
        ("--count", {"type": int, "required": True, "help": "how many boards were assembled"}),
        ("--variant", {"help": "which variant they are; without it that of the build"}),
    )
    add(
        "image",
        elsewhere(boards.image_command),
        "what is in a firmware image, and does it fit",
        ("file", {"help": "HEX or binary file"}),
        ("--target", {"required": True}),
        ("--base", {"type": lambda t: int(t, 0), "help": "address of a binary file"}),
    )
    building.add_commands(add, project)
    recording.add_commands(add, project)
    add(
        "mark",
        sheet.mark_command,
        "what a resistor in the hand is, by its bands or its chip marking",
        ("marking", {"nargs": "+", "help": "yellow violet red gold, or 472"}),
    )
    add("rules", numbers.rules_command, "every rule with its limits and source", ("--out", {"help": "a page to write"}))
    add("schema", _schema, "write the JSON Schema of design.json", ("--out", {"default": "docs/design.schema.json"}))
    add("shots", _shots, "draw each main view of the demo to PNG", ("--out", {"default": "shots"}))
    return parser


class Outcome(NamedTuple):
    """What a command came to: its exit status, what --json prints, what is printed else, and whether it was refused."""

    status: int
    data: Any
    text: str
    refused: bool = False


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit status."""
    parser = _parser()
    _complete(parser)
    with shown():
        return _main(parser, arguments)


def _main(parser: argparse.ArgumentParser, arguments: Sequence[str] | None) -> int:
    options = parser.parse_args(_options_first(sys.argv[1:] if arguments is None else arguments))
    try:
        outcome = _outcome(options)
        if options.json:
            print(json.dumps(outcome.data, ensure_ascii=False, indent=1), flush=True)
        elif outcome.refused:
            print(outcome.text, file=sys.stderr)
        else:
            print(outcome.text, flush=True)
    except BrokenPipeError:  # `| head` has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return FINE
    return outcome.status


def _complete(parser: argparse.ArgumentParser) -> None:
    """Answer a shell that asks for completions: `eval "$(register-python-argcomplete zt)"`."""
    if "_ARGCOMPLETE" in os.environ:
        import argcomplete

        argcomplete.autocomplete(parser)


def _outcome(options: argparse.Namespace) -> Outcome:
    """Run the command; what goes wrong is said in words, and what nobody foresaw goes to the log."""
    try:
        with orderly_end():
            status, data, text = options.handler(options)
            return Outcome(int(status), data, text)
    except (KeyboardInterrupt, Cancelled):
        return Outcome(STOPPED, {"error": "Stopped."}, "Stopped.", True)
    except ZestyError as error:
        told = getattr(error, "told", None)
        problems: list[str] = told() if told else []
        data = {"error": error.message, "where": error.where, "hint": error.hint}
        more = {"problems": problems} if problems else {}
        return Outcome(BAD, {**data, **more}, "\n".join([str(error), *problems[1:]]), True)
    except BrokenPipeError:
        raise
    except OSError as error:
        said = f"{error.filename or 'file'}: {error.strerror or error}. Check the folder and its rights"
        where = str(error.filename or "")
        return Outcome(BAD, {"error": said, "where": where, "hint": "Check the folder"}, said, True)
    except Exception as error:
        if options.debug:
            raise
        path = logs.keep(error)
        said = f"A fault of the program: {type(error).__name__}. Details are in {path}; please report it"
        return Outcome(BAD, {"error": said, "where": str(path), "hint": "Run it again with --debug"}, said, True)
