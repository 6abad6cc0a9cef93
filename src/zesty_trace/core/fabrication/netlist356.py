"""The bare-board netlist of IPC-D-356A: written for the house's electrical test, and read from any tool.

Record layout from memory of the standard: 80 columns, 317 for holes, 327 for surface pads, 999 at the end.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.quantities import mm
from zesty_trace.errors import InputError, own_words

NAME_COLUMNS = 14
UNITS = {"0": 25.4e-4, "1": 1e-3, "2": 25.4e-4}  # of `P  UNITS CUST n`, mm
MOST_RECORDS = 200_000


@dataclass(frozen=True)
class Record:
    """One point that the tester touches, mm; `access` is both, top or bottom."""

    net: str
    ref: str
    pin: str
    x: float
    y: float
    width: float
    height: float
    angle: float
    drill: float
    plated: bool
    access: str
    via: bool = False


def records_of(wired: Wired) -> list[Record]:
    """Return every pad and via of a board that is on a net."""
    found = []
    for p in board_pads(wired):
        if p.net and p.layers:
            access = "both" if len(p.layers) > 1 else p.layers[0]
            found.append(
                Record(
                    p.net, p.pin.ref, p.pin.number, mm(p.x_nm), mm(p.y_nm), mm(p.width_nm), mm(p.height_nm),
                    p.angle_mdeg / 1000 % 360, mm(p.drill_nm), p.plated, access,
                )
            )  # fmt: skip
    for v in wired.design.board.vias:
        size = mm(v.diameter_nm)
        found.append(
            Record(v.net, "VIA", "", mm(v.x_nm), mm(v.y_nm), size, size, 0.0, mm(v.drill_nm), True, "both", via=True)
        )
    return found


def netlist_text(name: str, records: Iterable[Record]) -> str:
    """Return the netlist, coordinates in thousandths of a millimetre; long names are given a short one."""
    records = list(records)
    short: dict[str, str] = {}
    for record in records:
        if len(record.net) > NAME_COLUMNS or not record.net.isascii():
            short.setdefault(record.net, f"NNAME{len(short) + 1:05d}")
    lines = [f"P  JOB   {name[:60]}", "P  CODE  00", "P  UNITS CUST 1", "P  VER   IPC-D-356A", "P  IMAGE PRIMARY"]
    lines += [f"P  {alias}  {net}" for net, alias in short.items()]
    lines += [_line(r, short.get(r.net, r.net)) for r in records]
    return "\n".join([*lines, "999", ""])


def _line(r: Record, net: str) -> str:
    access = {"both": "00", "top": "01", "bottom": "02"}[r.access]
    code = "317" if r.drill else "327"
    hole = f"D{round(r.drill * 1000):04d}{'P' if r.plated else 'U'}" if r.drill else "      "
    spot = f"X{round(r.x * 1000):+07d}Y{round(r.y * 1000):+07d}"
    size = f"X{min(9999, round(r.width * 1000)):04d}Y{min(9999, round(r.height * 1000)):04d}R{round(r.angle):03d}"
    end = "M" if r.via else " "
    mask = "S3" if r.via else "S0"
    return (
        f"{code}{net:<14.14}   {r.ref:<6.6}{'-' if r.pin else ' '}{r.pin:<4.4}{end}{hole}A{access}{spot}{size} {mask}"
    )


_RECORD = re.compile(r"^(3[1-9]7)(.{14})...(.{6})(.)(.{4})(.)(D\d{4}[PU]|.{6})A(\d\d)(.*)$")
_SPOT = re.compile(r"X([-+ ]?\d{1,6})Y([-+ ]?\d{1,6})(?:X(\d{1,4}))?(?:Y(\d{1,4}))?(?:R(\d{1,3}))?")


@own_words("netlist")
def read_netlist(text: str, name: str = "netlist") -> list[Record]:
    """Return the points of a netlist of any tool. InputError with the line of a record that cannot be read."""
    unit, aliases, found = UNITS["0"], {}, []
    for line, raw in enumerate(text.splitlines(), 1):
        where = f"{name} line {line}"
        if match := re.match(r"^P\s+UNITS\s+CUST\s+(\d)", raw):
            if match[1] not in UNITS:
                raise InputError(f"Unit CUST {match[1]} is not known", where, "It is 0, 1 or 2")
            unit = UNITS[match[1]]
        elif re.match(r"^P\s+UNITS\s+SI", raw):
            unit = UNITS["1"]
        elif match := re.match(r"^P\s+(NNAME\d+)\s+(\S+)", raw):
            aliases[match[1]] = match[2]
        elif raw.startswith(("317", "327", "337", "347")):
            found.append(_record(raw, unit, aliases, where))
            if len(found) > MOST_RECORDS:
                raise InputError(f"There are over {MOST_RECORDS:,} points", where, "No board has so many")
    return found


def _record(raw: str, unit: float, aliases: dict[str, str], where: str) -> Record:
    match = _RECORD.match(raw.rstrip().ljust(58))
    spot = _SPOT.search(match[9]) if match else None
    if match is None or spot is None:
        raise InputError("A record is not as IPC-D-356A has it", where, "The file is damaged")
    code, net, ref, _, pin, middle, hole, access, _ = match.groups()
    drill = int(hole[1:5]) * unit if hole.startswith("D") else 0.0
    x, y = (int(spot[k].replace(" ", "")) * unit for k in (1, 2))
    width, height = (int(spot[k]) * unit if spot[k] else 0.0 for k in (3, 4))
    net = net.strip()
    sides = {"00": "both", "01": "top"}.get(access, "bottom")
    via = middle == "M" or ref.strip().upper() == "VIA"
    return Record(
        aliases.get(net, net), ref.strip(), pin.strip(), x, y, width, height, float(spot[5] or 0), drill,
        hole.endswith("P") or (code == "317" and not hole.endswith("U")), "both" if drill else sides, via,
    )  # fmt: skip
