"""A small oven with a controller in the loop, and what its heat does to this board.

Lumped masses: the heating rods, the air with the inner walls, the board with the parts that are on it, and the part
that is slowest to follow. Heat flows by differences; the rods also radiate straight onto the board (taken as linear).
The board's mass comes from its area, thickness and copper, a part's from its body. Figures of the oven are common
practice for a table oven of 1500 W and 20 litres, and go with power and size; those of materials are handbook values.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zesty_trace.core.assembly.profiles import AlloyWindow, Profile
from zesty_trace.core.board.copper import outline_shape, pattern_of
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, rule
from zesty_trace.core.quantities import mm

FloatArray = npt.NDArray[np.float64]
FR4_KG_PER_M3, FR4_J_PER_KG_K = 1850.0, 1100.0
COPPER_KG_PER_M3, COPPER_J_PER_KG_K = 8960.0, 385.0
BODY_J_PER_MM3_K = 2.0e-3  # of moulded plastic, ceramic and metal about alike: handbook values, from memory
LEADS_W_PER_MM2_K = 3e-4  # from the board into a body above it, through leads and the gap: common practice
POWER_W, LITRES = 1500.0, 20.0  # of the oven that the figures are for


@dataclass(frozen=True)
class Oven:
    """Heat capacities J/K, conductances W/K, power W; PID constants on the board's thermocouple."""

    power_w: float = 1500.0
    rods_j_per_k: float = 260.0
    air_j_per_k: float = 620.0
    rods_to_air_w_per_k: float = 5.0
    loss_w_per_k: float = 2.4
    open_loss_w_per_k: float = 30.0
    board_w_per_m2_k: float = 38.0
    radiant_w_per_m2_k: float = 9.0
    sensor_lag_s: float = 1.5
    window_s: float = 2.0
    kp: float = 0.077
    ki: float = 0.00001
    kd: float = 1.68
    lead_s: float = 8.5

    @classmethod
    def like(cls, power_w: float, litres: float) -> Oven:
        """Return an oven of another power and size: its rods go with the power, its walls with their area."""
        stronger, walls = power_w / POWER_W, (litres / LITRES) ** (2.0 / 3.0)
        at = cls()
        return cls(
            power_w=power_w,
            rods_j_per_k=at.rods_j_per_k * stronger,
            rods_to_air_w_per_k=at.rods_to_air_w_per_k * stronger,
            air_j_per_k=at.air_j_per_k * walls,
            loss_w_per_k=at.loss_w_per_k * walls,
            open_loss_w_per_k=at.open_loss_w_per_k * walls,
            kp=at.kp / stronger,
            ki=at.ki / stronger,
            kd=at.kd / stronger,
        )


@dataclass(frozen=True)
class Run:
    """A simulated run: times s, target, board and air °C, heater duty 0..1, and the part that is slowest to follow."""

    time_s: FloatArray
    target_c: FloatArray
    board_c: FloatArray
    air_c: FloatArray
    duty: FloatArray
    slowest: str
    slowest_c: FloatArray


@dataclass(frozen=True)
class Measure:
    """One judged number of a profile."""

    name: str
    value: float
    low: float | None
    high: float | None
    unit: str

    @property
    def good(self) -> bool:
        """Whether the value is within its limits."""
        return (self.low is None or self.value >= self.low) and (self.high is None or self.value <= self.high)


def heated_parts(wired: Wired) -> list[str]:
    """Return the parts that go through the oven: fitted, surface-mount, and not put on later by iron."""
    design = wired.design
    return [
        ref
        for ref in design.fitted(design.build.variant).parts
        if wired.kind(ref).assembled and not wired.kind(ref).late and pattern_of(wired, ref).surface_mount
    ]


def _body_mm(wired: Wired, ref: str) -> tuple[float, float]:
    """Return the area (mm²) and height (mm) of a part's body."""
    pattern = pattern_of(wired, ref)
    x0, y0, x1, y1 = pattern.body
    return mm(x1 - x0) * mm(y1 - y0), mm(pattern.height_nm)


def part_heat_j_per_k(wired: Wired, ref: str) -> float:
    """Return the heat capacity of a part, by the volume of its body."""
    area, height = _body_mm(wired, ref)
    return area * height * BODY_J_PER_MM3_K


def lag_s(wired: Wired, ref: str, oven: Oven) -> tuple[float, float]:
    """Return how fast a part follows the board, and the air: heat capacity by conductance, s."""
    area, height = _body_mm(wired, ref)
    heat = area * height * BODY_J_PER_MM3_K
    open_mm2 = area + 4.0 * height * area**0.5
    return heat / (LEADS_W_PER_MM2_K * area), heat / (oven.board_w_per_m2_k * open_mm2 * 1e-6)


def board_heat_j_per_k(wired: Wired) -> float:
    """Return the heat capacity of the board with the parts that are on it in the oven."""
    design = wired.design
    area = outline_shape(design).area * 1e-6
    base = area * mm(design.board.rules.thickness_nm) * 1e-3 * FR4_KG_PER_M3 * FR4_J_PER_KG_K
    foils_um = sum(map(design.board.rules.foil_um, design.board.stack))
    copper = area * foils_um * 1e-6 * COPPER_KG_PER_M3 * COPPER_J_PER_KG_K
    return float(base + copper + sum(part_heat_j_per_k(wired, r) for r in heated_parts(wired)))


def simulate(wired: Wired, profile: Profile, ambient_c: float, oven: Oven | None = None, step_s: float = 0.1) -> Run:
    """Return a run of `profile`: heating under control, then the door opened until the board is below 60 °C."""
    build = wired.design.build
    oven = oven or Oven.like(build.oven_power_w, build.oven_litres)
    area = outline_shape(wired.design).area * 1e-6
    mass = board_heat_j_per_k(wired)
    lags = {r: lag_s(wired, r, oven) for r in heated_parts(wired)}
    slowest = max(lags, key=lambda r: 1.0 / (1.0 / lags[r][0] + 1.0 / lags[r][1]), default="")
    to_air = oven.board_w_per_m2_k * 2 * area
    to_rods = oven.radiant_w_per_m2_k * 2 * area
    rods = air = board = sensor = ambient_c
    integral, before, duty = 0.0, ambient_c, 0.0
    rows = []
    time = 0.0
    while time < profile.end_s + 600.0:
        heating = time < profile.end_s
        if heating and time % oven.window_s < step_s / 2:
            target = profile.at(min(time + oven.lead_s, profile.end_s))
            error = target - sensor
            slope = (sensor - before) / oven.window_s
            before = sensor
            hold = oven.loss_w_per_k * (target - ambient_c) / oven.power_w
            wanted = hold + oven.kp * error + oven.ki * integral + oven.kd * (_slope(profile, time, oven) - slope)
            if 0.0 < wanted < 1.0:
                integral += error * oven.window_s
            duty = min(1.0, max(0.0, wanted))
        power = oven.power_w * duty if heating else 0.0
        loss = oven.loss_w_per_k if heating else oven.open_loss_w_per_k
        d_rods = (power - oven.rods_to_air_w_per_k * (rods - air) - to_rods * (rods - board)) / oven.rods_j_per_k
        d_air = (
            oven.rods_to_air_w_per_k * (rods - air) - to_air * (air - board) - loss * (air - ambient_c)
        ) / oven.air_j_per_k
        d_board = (to_air * (air - board) + to_rods * (rods - board)) / mass
        rows.append((time, profile.at(time) if heating else np.nan, board, air, duty if heating else 0.0))
        rods, air, board = rods + d_rods * step_s, air + d_air * step_s, board + d_board * step_s
        sensor += (board - sensor) * step_s / oven.sensor_lag_s
        time = round(time + step_s, 6)
        if not heating and board < 60.0:
            break
    table = np.array(rows)
    times, targets, boards, airs, duties = (table[:, k] for k in range(5))
    follows = _following(boards, airs, lags[slowest], step_s) if slowest else boards
    return Run(times, targets, boards, airs, duties, slowest, follows)


def _following(board_c: FloatArray, air_c: FloatArray, lags: tuple[float, float], step_s: float) -> FloatArray:
    """Return the temperature of a part that takes its heat from the board and the air."""
    found = np.empty_like(board_c)
    now = float(board_c[0])
    for k, (board, air) in enumerate(zip(board_c, air_c, strict=True)):
        found[k] = now
        now += step_s * ((board - now) / lags[0] + (air - now) / lags[1])
    return found


def _slope(profile: Profile, time: float, oven: Oven) -> float:
    ahead = min(time + oven.lead_s, profile.end_s)
    return (profile.at(ahead) - profile.at(max(0.0, ahead - 5.0))) / 5.0


def seconds_above(time_s: FloatArray, temp_c: FloatArray, limit_c: float) -> float:
    """Return how long a temperature was above `limit_c`, s; crossings by linear interpolation."""
    above = 0.0
    for t0, t1, a, b in zip(time_s, time_s[1:], temp_c - limit_c, temp_c[1:] - limit_c, strict=False):
        if a >= 0 and b >= 0:
            above += t1 - t0
        elif a < 0 <= b or b < 0 <= a:
            above += (t1 - t0) * max(a, b) / abs(b - a)
    return float(above)


def steepest(time_s: FloatArray, temp_c: FloatArray, over_s: float = 5.0) -> tuple[float, float]:
    """Return the steepest rise and the steepest fall over a span of `over_s`, °C/s, both as positive numbers."""
    step = max(1, round(over_s / float(time_s[1] - time_s[0])))
    slope = (temp_c[step:] - temp_c[:-step]) / (time_s[step:] - time_s[:-step])
    return float(slope.max(initial=0.0)), float(-slope.min(initial=0.0))


def part_limit_c(wired: Wired) -> tuple[float, str]:
    """Return the lowest heat limit of the parts that go through the oven, and whose it is."""
    return min(((wired.kind(r).heat_max_c, r) for r in heated_parts(wired)), default=(260.0, ""))


def judge(run: Run, window: AlloyWindow, part_limit: float = 260.0) -> list[Measure]:
    """Return the numbers of a run against the alloy's window and the most delicate part."""
    rise, fall = steepest(run.time_s, run.board_c)
    peak = float(run.board_c.max())
    first = int(run.board_c.argmax())
    heating_t, heating = run.time_s[: first + 1], run.board_c[: first + 1]
    soak = seconds_above(heating_t, heating, window.preheat_low_c) - seconds_above(
        heating_t, heating, window.preheat_high_c
    )
    above = seconds_above(run.time_s, run.board_c, window.liquidus_c)
    return [
        Measure("steepest rise", rise, None, window.ramp_max_c_per_s, "°C/s"),
        Measure(f"{window.preheat_low_c:.0f} to {window.preheat_high_c:.0f} °C", soak, *window.preheat_s, "s"),
        Measure(f"above {window.liquidus_c:.0f} °C", above, *window.above_liquidus_s, "s"),
        Measure("peak", peak, window.peak_min_c, min(window.peak_max_c, part_limit), "°C"),
        Measure("steepest fall", fall, None, window.cooling_max_c_per_s, "°C/s"),
        Measure("25 °C to peak", float(run.time_s[first]), None, window.total_max_s, "s"),
        *(
            [Measure(f"{run.slowest}, slowest to follow", float(run.slowest_c.max()), window.liquidus_c, None, "°C")]
            if run.slowest
            else []
        ),
    ]


HEAT_PROFILE = rule(
    "heat profile",
    Severity.FIX,
    "Too little heat leaves cold joints; too much, or too fast, cracks and ages parts.",
    "window of the alloy, and the heat that the parts take",
    limits="the window of the alloy",
    station="assembly",
)


def heat_findings(measures: list[Measure], window: AlloyWindow) -> list[Finding]:
    """Return a finding for each number outside its limits."""
    found = []
    for m in measures:
        if m.good:
            continue
        low = m.low is not None and m.value < m.low
        limit = m.low if low else m.high
        found.append(
            HEAT_PROFILE.found(
                Subject(which=m.name),
                f"{m.name}: {m.value:.1f} {m.unit}",
                f"{'At least' if low else 'At most'} {limit:g} {m.unit} for {window.title}.",
                source=window.source,
                value=m.value,
                limit=limit,
                unit=m.unit,
            )
        )
    return found
