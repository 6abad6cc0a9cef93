"""Solder alloys, their target profiles and the limits that a profile is judged by."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.design.model import Alloy


@dataclass(frozen=True)
class AlloyWindow:
    """Limits of one alloy, °C, °C/s and s.

    Preheat, ramp, time above liquidus and cooling: J-STD-020 classification profile table (Sn-Pb and Pb-free columns,
    from memory). The low-temperature alloy is outside that table; its window is common practice.
    """

    alloy: Alloy
    title: str
    liquidus_c: float
    preheat_low_c: float
    preheat_high_c: float
    preheat_s: tuple[float, float]
    above_liquidus_s: tuple[float, float]
    ramp_max_c_per_s: float
    cooling_max_c_per_s: float
    peak_min_c: float
    peak_max_c: float
    total_max_s: float
    source: str
    caution: str


J_STD = "J-STD-020, classification profile table (from memory)"
WINDOWS: dict[Alloy, AlloyWindow] = {
    "leaded": AlloyWindow(
        "leaded",
        "Sn63Pb37",
        183.0,
        100.0,
        150.0,
        (60.0, 120.0),
        (60.0, 150.0),
        3.0,
        6.0,
        203.0,
        235.0,
        360.0,
        J_STD,
        "Contains lead: wash your hands, keep food away, do not use the oven for food again. Not allowed in goods sold "
        "in many places.",
    ),
    "lead-free": AlloyWindow(
        "lead-free",
        "SAC305",
        217.0,
        150.0,
        200.0,
        (60.0, 120.0),
        (60.0, 150.0),
        3.0,
        6.0,
        232.0,
        260.0,
        480.0,
        J_STD,
        "Needs more heat: glass and metal stay hot long after the door opens. Extract the fumes.",
    ),
    "low-temperature": AlloyWindow(
        "low-temperature",
        "Sn42Bi58",
        138.0,
        90.0,
        120.0,
        (45.0, 120.0),
        (30.0, 90.0),
        3.0,
        6.0,
        155.0,
        185.0,
        360.0,
        "common practice",
        "Brittle joints: not for connectors that are pulled on. Never mix with leaded solder.",
    ),
}


@dataclass(frozen=True)
class Profile:
    """The target: (time s, temperature °C) corners, joined by straight lines, then the door opens."""

    points: tuple[tuple[float, float], ...]

    def at(self, time_s: float) -> float:
        """Return the target at a time; after the last corner it stays."""
        before = self.points[0]
        for after in self.points[1:]:
            if time_s <= after[0]:
                share = (time_s - before[0]) / (after[0] - before[0])
                return before[1] + share * (after[1] - before[1])
            before = after
        return before[1]

    @property
    def end_s(self) -> float:
        """When heating ends."""
        return self.points[-1][0]


def target_profile(alloy: Alloy, start_c: float) -> Profile:
    """Return the usual hobby profile of an alloy (common practice): ramp, soak, reflow."""
    shapes: dict[Alloy, tuple[tuple[float, float], ...]] = {
        "leaded": ((110.0, 100.0), (200.0, 150.0), (240.0, 183.0), (275.0, 213.0), (285.0, 214.0)),
        "lead-free": ((150.0, 150.0), (240.0, 200.0), (262.0, 217.0), (292.0, 236.0), (302.0, 236.0)),
        "low-temperature": ((100.0, 90.0), (170.0, 120.0), (192.0, 138.0), (212.0, 158.0), (218.0, 159.0)),
    }
    return Profile(((0.0, start_c), *shapes[alloy]))
