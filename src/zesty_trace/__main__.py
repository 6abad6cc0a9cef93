"""`python -m zesty_trace demo | open FOLDER`: the window. The command line is `python -m zesty_trace.cli`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from zesty_trace import __version__


def _sheet(options: argparse.Namespace) -> int:
    from zesty_trace.desktop.schematic.export import export_sheets
    from zesty_trace.errors import ZestyError

    try:
        made = export_sheets(options.folder, options.pdf, options.svg)
    except ZestyError as error:
        print(error, file=sys.stderr)
        return 2
    print("\n".join(map(str, made)))
    return 0


def _print(options: argparse.Namespace) -> int:
    from zesty_trace.desktop.layout.export import print_board
    from zesty_trace.errors import ZestyError

    try:
        made = print_board(options.folder, options.pdf, options.svg, options.views)
    except ZestyError as error:
        print(error, file=sys.stderr)
        return 2
    print("\n".join(map(str, made)))
    return 0


def main() -> int:
    """Start the window."""
    from zesty_trace.cli.terminal import shown

    with shown():
        return _main()


def _main() -> int:
    parser = argparse.ArgumentParser(prog="zesty-trace", description="From a proven prototype to tested boards.")
    commands = parser.add_subparsers(dest="command")
    demo = commands.add_parser("demo", help="open the demo project")
    demo.add_argument("name", nargs="?", default="proofing", help="proofing, tide-dial or sensor-node")
    demo.add_argument("--reset", action="store_true", help="start the demo afresh")
    demo.add_argument("--shots", type=Path, metavar="DIR", help="draw each main view to PNG (1280x800) and leave")
    project = commands.add_parser("open", help="open a project folder")
    project.add_argument("folder", type=Path)
    sheet = commands.add_parser("sheet", help="write the schematic of a project folder as PDF or SVG")
    sheet.add_argument("folder", type=Path)
    sheet.add_argument("--pdf", type=Path, metavar="FILE")
    sheet.add_argument("--svg", type=Path, metavar="FILE")
    true_size = commands.add_parser("print", help="write the board of a project folder at 1:1 as PDF")
    true_size.add_argument("folder", type=Path)
    true_size.add_argument("--pdf", type=Path, metavar="FILE")
    true_size.add_argument("--svg", type=Path, metavar="FILE")
    true_size.add_argument("--views", help="layers and drawings; without it the print to lay on the object")
    parser.add_argument("--version", action="version", version=f"zesty-trace {__version__}")
    parser.add_argument("--debug", action="store_true", help="show the traceback of a fault of the program")
    options = parser.parse_args()
    if options.command == "sheet":
        return _sheet(options)
    if options.command == "print":
        return _print(options)
    from zesty_trace.desktop.window.app import run

    if options.command == "open":
        return run(options.folder, False, None)
    return run(
        None, getattr(options, "reset", False), getattr(options, "shots", None), getattr(options, "name", "proofing")
    )


if __name__ == "__main__":
    sys.exit(main())
