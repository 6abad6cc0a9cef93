"""How long the maker's own work takes: by part and package, by board, by batch; common practice."""

from __future__ import annotations

import re
from dataclasses import dataclass

from zesty_trace.core.board.copper import board_pads, pattern_of
from zesty_trace.core.circuit.wired import Wired

# Seconds to take one part off its tape and set it down, by the beginning of the package's name; the first that holds.
SECONDS = (
    ("*0402", 14.0), ("*0603", 9.0), ("*0805", 8.0), ("*1206", 8.0), ("SOT", 11.0), ("SOIC", 16.0), ("TSSOP", 25.0),
    ("LQFP", 45.0), ("QFN", 50.0), ("DFN", 40.0), ("Balls", 90.0), ("Module", 40.0), ("USB-C", 30.0), ("", 12.0),
)  # fmt: skip
JOINT_S = 9.0  # one joint by iron
LINE_S = 45.0  # one sort of part: found, counted, taped to the strip, labelled
PRINT_SET_S, PRINT_S = 900.0, 150.0  # hinge and first print; each board and face
HEAT_BATCH_S, HEAT_BOARDS = 720.0, 4  # ramp, soak, reflow, cool; boards of palm size at once
CLEAN_S, LOOK_S, FLASH_S, TEST_S, SET_UP_S = 180.0, 120.0, 60.0, 240.0, 900.0


@dataclass(frozen=True)
class Job:
    """A piece of the maker's own work, in hours."""

    key: str
    title: str
    hours: float


def seconds_of(package: str, own: tuple[tuple[str, float], ...] = ()) -> float:
    """Return how long one part of a package takes to place, by own figures first, of the whole name before others."""
    whole_name = next((seconds for name, seconds in own if name.casefold() == package.casefold()), None)
    if whole_name is not None:
        return whole_name
    for pattern, seconds in (*own, *SECONDS):
        if re.match(re.escape(pattern).replace(r"\*", ".*"), package, re.I):
            return seconds
    return SECONDS[-1][1]


def jobs_of(wired: Wired, batch: dict[str, int], own: tuple[tuple[str, float], ...] = ()) -> list[Job]:
    """Return the work from kitting to test for so many boards of each variant, in the order in which it is done."""
    boards = sum(batch.values())
    if not boards:
        return []
    placing = joints = 0.0
    sorts: set[tuple[str, str]] = set()
    faces: set[str] = set()
    for variant, count in batch.items():
        for ref, part in wired.design.fitted(variant).parts.items():
            if not wired.kind(ref).assembled or not count:
                continue
            package = wired.package(ref)
            sorts.add((part.kind, part.value))
            if pattern_of(wired, ref).surface_mount:
                placing += count * seconds_of(package.id, own)
                spot = wired.design.board.placements.get(ref)
                faces.add(spot.side if spot is not None else "top")
            else:
                joints += count * max(1, len(_joints(wired, ref)))
    batches = -(-boards // HEAT_BOARDS) * len(faces)
    found = [Job("kitting", "Kitting: parts found, counted, labelled", len(sorts) * LINE_S)]
    if faces:
        found += [
            Job("printing", "Printing paste", len(faces) * (PRINT_SET_S + boards * PRINT_S)),
            Job("placing", "Placing surface parts", placing),
            Job("heating", "Heating, and looking at joints", batches * HEAT_BATCH_S + boards * LOOK_S),
        ]
    if joints:
        found.append(Job("hand", "Hand soldering", joints * JOINT_S))
    found += [
        Job("cleaning", "Cleaning", boards * CLEAN_S),
        Job("flashing", "Flashing", SET_UP_S / 3 + boards * FLASH_S),
        Job("testing", "Bench test", SET_UP_S + boards * TEST_S),
    ]
    return [Job(j.key, j.title, j.hours / 3600) for j in found]


def _joints(wired: Wired, ref: str) -> list[object]:
    pads = [p for p in board_pads(wired, [ref]) if p.drill_nm and p.plated]
    return list(pads) or [p for p in pattern_of(wired, ref).pads if p.drill_nm and p.plated]
