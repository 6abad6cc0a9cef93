"""Newton's method over a batch of samples: the equations put together, one step after the other, and when to stop.

Method: C.-W. Ho, A. Ruehli, P. Brennan, "The modified nodal approach to network analysis", IEEE Trans. Circuits and
Systems 22 (1975). Where plain steps go round in circles, each node is slowed by a conductance to where it was, which is
let go as the steps grow small (pseudo-transient continuation: Kelley and Keyes, SIAM J. Numer. Anal. 35, 1998).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from zesty_trace.core.circuit.devices import EQUATIONS, Stamp
from zesty_trace.core.circuit.limits import LIMITS, supply_step
from zesty_trace.core.circuit.network import BoolArray, Compiled, FloatArray, Group, IntArray

RESIDUAL_A = 1e-10
STEP_V = 1e-9
LAST_STEP_V = 1e-4
ROUGH_A, ROUGH_V = 3e-3, 0.1
MANY = 64
CHORDS = 4  # steps of a large batch by one mean Jacobian
PLAIN_STEPS = 8
SLOWED_S, SLOWEST_S, LET_GO, HOLD_ON, BIG_STEP_V, FREE_S = 3e-3, 10.0, 0.1, 4.0, 2.0, 1e-10
FAR_BEYOND = 4.0
SUPPLIES = ("regulator", "converter")
_State = list[tuple[FloatArray, FloatArray | None]]  # of each bent group: terminal voltages (B, E, T), branch currents


@dataclass(frozen=True)
class Held:
    """Voltages (E,) that regulators and converters give whatever they are asked for, by type; a first approach."""

    volts: dict[str, FloatArray]


@dataclass(frozen=True)
class Way:
    """How to go: conductance to ground (S), share of the sources, held supplies, roughly only, and at most how far.

    `near` says that the start is a solution of a circuit like this one: the devices may be taken as they stand there.
    """

    gmin: float
    share: float = 1.0
    held: Held | None = None
    rough: bool = False
    near: bool = False
    most: int = 90


def padded(x: FloatArray) -> FloatArray:
    """Return unknowns (B, U) with the ground as a last column."""
    return np.concatenate([x, np.zeros((len(x), 1))], axis=1)


def only(compiled: Compiled, rows: BoolArray) -> Compiled:
    """Return a batch with the samples of `rows` alone."""
    groups = tuple(
        Group(g.type, g.index, g.nodes, g.branch, {n: v[rows] for n, v in g.values.items()}) for g in compiled.groups
    )
    return replace(compiled, groups=groups, batch=int(rows.sum()))


def conductances(compiled: Compiled, gmin: float) -> FloatArray:
    """Return the part of the Jacobian (B, U, U) that no step changes.

    The resistors, and `gmin` from each node to ground.
    """
    batch, size, nodes = compiled.batch, compiled.size, len(compiled.names)
    ohms = [g.values["ohm"] for g in compiled.groups if g.type == "resistor"]
    g = 1.0 / ohms[0] if ohms else np.zeros((batch, 0))
    fixed = compiled.ohmic(np.stack([g, -g, -g, g], axis=-1).reshape(batch, -1))
    fixed = np.ascontiguousarray(fixed.reshape(batch, size + 1, size + 1)[:, :size, :size])
    diagonal = np.arange(nodes)
    fixed[:, diagonal, diagonal] += gmin
    return fixed


def _stamp(group: Group, v: FloatArray, i: FloatArray | None, way: Way) -> Stamp:
    values = group.values
    if group.type == "source" and way.share != 1.0:
        values = {**values, "volt": values["volt"] * way.share}
    stamp = EQUATIONS[group.type](v, i, values)
    if way.held is not None and group.type in way.held.volts and i is not None:
        stamp.f = v[..., 1] - v[..., 2] - way.held.volts[group.type] + values["r_out"] * i
        stamp.f_v = np.zeros_like(v)
        stamp.f_v[..., 1], stamp.f_v[..., 2] = 1.0, -1.0
        stamp.f_i = values["r_out"]
    return stamp


def assemble(
    compiled: Compiled, x: FloatArray, state: _State, fixed: FloatArray, way: Way, slopes: bool = True
) -> tuple[FloatArray, FloatArray | None]:
    """Return the residual (B, U) at `x`, each device linearised at its own state, and the Jacobian.

    `fixed` is what `conductances` gives. Without `slopes` no Jacobian is put together.
    """
    batch, size = compiled.batch, compiled.size
    at = padded(x)
    left: list[FloatArray] = [np.zeros((batch, 0))]
    right: list[FloatArray] = [np.zeros((batch, 0))]
    for group, (v, i) in zip(compiled.bent, state, strict=True):
        stamp = _stamp(group, v, i, way)
        apart = at[:, group.nodes] - v
        flow, moved = stamp.current, bool(apart.any())  # mostly not: then the devices stand where their nodes are
        if moved:
            flow = flow + (stamp.by_v @ apart[..., None])[..., 0]
        right.append(stamp.by_v.reshape(batch, -1))
        if i is None or stamp.by_i is None or stamp.f is None or stamp.f_v is None or stamp.f_i is None:
            left.append(flow.reshape(batch, -1))
            continue
        di = at[:, group.branch] - i
        flow = flow + stamp.by_i * di[..., None]
        law = stamp.f + (stamp.f_v * apart).sum(axis=-1) + stamp.f_i * di
        left += [flow.reshape(batch, -1), law]
        right += [stamp.by_i.reshape(batch, -1), stamp.f_v.reshape(batch, -1), stamp.f_i]
    residual = compiled.residual(np.concatenate(left, axis=1))[:, :size] + (fixed @ x[..., None])[..., 0]
    if not slopes:
        return residual, None
    jacobian = compiled.jacobian(np.concatenate(right, axis=1)).reshape(batch, size + 1, size + 1)
    return residual, jacobian[:, :size, :size] + fixed


def state_at(compiled: Compiled, x: FloatArray) -> _State:
    """Return the devices as they stand when each is where its nodes are."""
    at = padded(x)
    return [(at[:, g.nodes], at[:, g.branch] if len(g.branch) else None) for g in compiled.bent]


def _follow(compiled: Compiled, state: _State, x: FloatArray) -> _State:
    """Return the devices taken towards where their nodes are, as far as each may go in one step."""
    at, found = padded(x), []
    for group, (v, i) in zip(compiled.bent, state, strict=True):
        there = at[:, group.nodes]
        limit = LIMITS.get(group.type)
        fresh = limit(v, there, group.values) if limit else there
        branch = at[:, group.branch] if len(group.branch) else None
        if branch is not None and i is not None and group.type in SUPPLIES:
            branch = supply_step(i, branch, group.values["i_limit"])
        found.append((fresh, branch))
    return found


def _at_rest(compiled: Compiled, x: FloatArray) -> _State:
    """Return the devices on their way from nothing to where `x` is: no junction conducts beyond reason."""
    still = [(np.zeros_like(v), i) for v, i in state_at(compiled, x)]
    return _follow(compiled, still, x)


def _apart(compiled: Compiled, state: _State, x: FloatArray) -> FloatArray:
    """Return how far (B,) the devices of each sample are from where their nodes are, V or A."""
    at, found = padded(x), np.zeros(len(x))
    for group, (v, i) in zip(compiled.bent, state, strict=True):
        found = np.maximum(found, np.abs(at[:, group.nodes] - v).max(axis=(1, 2), initial=0.0))
        if i is not None:
            found = np.maximum(found, np.abs(at[:, group.branch] - i).max(axis=1, initial=0.0))
    return found


def _bound_v(compiled: Compiled) -> float:
    """Return a voltage that no node of this circuit can reach: a step past it is a step astray."""
    found = [
        float(np.abs(g.values[name]).max(initial=0.0))
        for g in compiled.bent
        for name in ("volt", "v_out", "v_z")
        if name in g.values
    ]
    return FAR_BEYOND * max(found, default=1.0) + 10.0


def newton(compiled: Compiled, x: FloatArray, way: Way) -> tuple[FloatArray, BoolArray, int]:
    """Return the unknowns (B, U), which samples settled, and how often the equations were put together.

    A sample has settled when the equations hold at its own voltages and the last step was small: Newton's method is
    quadratic there, so the step that is not taken would be far smaller still.
    """
    x, good = x.copy(), np.zeros(compiled.batch, dtype=bool)
    walk = _Walk(compiled, x, way)
    with np.errstate(over="ignore", invalid="ignore"):  # a step astray has no numbers, and has not settled
        for step in range(way.most + 1):
            fine = walk.look(step)
            good[walk.rows] = fine
            if fine.all() or step == way.most:
                break
            try:
                walk.go(step)
            except np.linalg.LinAlgError:
                break
            x[walk.rows] = walk.x
            walk.leave(fine)
    return x, good, step + 1


class _Walk:
    """The samples that still move: their circuit, unknowns and devices."""

    def __init__(self, compiled: Compiled, x: FloatArray, way: Way) -> None:
        self.part, self.x, self.way = compiled, x.copy(), way
        self.rows: IntArray = np.arange(compiled.batch)
        self.fixed = conductances(compiled, way.gmin)
        self.state = state_at(compiled, x) if way.near else _at_rest(compiled, x)
        self.moved = np.full(compiled.batch, np.inf)
        self.slowed = np.zeros(compiled.batch)
        self.nodes, self.bound = len(compiled.names), _bound_v(compiled)
        self.many = way.near and compiled.batch >= MANY
        self.mean: FloatArray | None = None

    def look(self, step: int) -> BoolArray:
        """Put the equations together, and return which samples have settled."""
        chord = self.many and 0 < step < CHORDS and self.mean is not None
        self.residual, self.jacobian = assemble(self.part, self.x, self.state, self.fixed, self.way, not chord)
        worst = np.nan_to_num(np.abs(self.residual), nan=np.inf).max(axis=1, initial=0.0)
        apart = _apart(self.part, self.state, self.x)
        if self.way.rough:
            return np.asarray((worst < ROUGH_A) & (apart < ROUGH_V) & (self.moved < ROUGH_V))
        return np.asarray((worst < RESIDUAL_A) & (apart < STEP_V) & (self.moved < LAST_STEP_V))

    def go(self, step: int) -> None:
        """Take one step."""
        if step == PLAIN_STEPS:
            self.slowed[:] = SLOWED_S
        fresh = self.x + self._step(step)
        np.clip(fresh[:, : self.nodes], -self.bound, self.bound, out=fresh[:, : self.nodes])
        self.moved = np.abs(fresh - self.x)[:, : self.nodes].max(axis=1, initial=0.0)
        if step >= PLAIN_STEPS:
            big = self.moved > BIG_STEP_V
            self.slowed = np.where(big, np.minimum(self.slowed * HOLD_ON, SLOWEST_S), self.slowed * LET_GO)
            self.slowed[self.slowed < FREE_S] = 0.0
        self.x = fresh
        self.state = _follow(self.part, self.state, fresh)

    def _step(self, step: int) -> FloatArray:
        if self.many and step < CHORDS:  # samples near each other: one mean Jacobian takes them most of the way
            if self.mean is None and self.jacobian is not None:
                self.mean = np.linalg.inv(self.jacobian.mean(axis=0)).T
            assert self.mean is not None
            return -self.residual @ self.mean
        assert self.jacobian is not None
        if self.slowed.any():
            diagonal = np.arange(self.nodes)
            self.jacobian[:, diagonal, diagonal] += self.slowed[:, None]
        return np.asarray(np.linalg.solve(self.jacobian, -self.residual[..., None])[..., 0])

    def leave(self, fine: BoolArray) -> None:
        """Let go of samples that have settled, once they are half of those that are left."""
        if 2 * fine.sum() < len(self.rows):
            return
        stay = ~fine
        self.rows, self.part = self.rows[stay], only(self.part, stay)
        self.x, self.fixed = self.x[stay], self.fixed[stay]
        self.moved, self.slowed = self.moved[stay], self.slowed[stay]
        self.state = [(v[stay], i[stay] if i is not None else None) for v, i in self.state]
