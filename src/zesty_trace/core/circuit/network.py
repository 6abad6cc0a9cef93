"""A circuit as a list of elements between named nodes, and its compilation into arrays."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from zesty_trace.core.design.model import Pin

FloatArray = npt.NDArray[np.float64]
IntArray = npt.NDArray[np.int64]
BoolArray = npt.NDArray[np.bool_]

# Terminals and parameters of each element type. Units: V, A, Ω; n and beta are plain numbers.
TERMINALS = {
    "resistor": 2,
    "source": 2,
    "diode": 2,
    "zener": 2,
    "current_load": 2,
    "nmos": 3,
    "pmos": 3,
    "npn": 3,
    "pnp": 3,
    "regulator": 3,
    "converter": 3,
    "amplifier": 5,
    "darlington": 3,
}
PARAMETERS = {
    "resistor": ("ohm",),
    "source": ("volt", "ohm"),
    "diode": ("i_s", "n"),
    "current_load": ("amp", "v_on"),
    "zener": ("i_s", "n", "v_z", "i_z"),
    "nmos": ("vth", "k"),
    "pmos": ("vth", "k"),
    "npn": ("i_s", "beta"),
    "pnp": ("i_s", "beta"),
    "regulator": ("v_out", "v_drop", "r_drop", "i_q", "i_limit", "r_out"),
    "converter": ("v_out", "efficiency", "v_min", "i_q", "i_limit", "r_out"),
    "amplifier": ("gain", "low", "high", "r_out", "i_limit"),
    "darlington": ("v_sat", "r_on", "v_on", "r_in", "gain"),
}
BRANCHES = ("source", "regulator", "converter", "amplifier")


@dataclass(frozen=True)
class Element:
    """One element. `nodes` and `pins` run in terminal order:

    two-terminal: plus (anode, supply), minus; nmos, pmos: drain, gate, source; npn, pnp: collector, base, emitter;
    regulator and converter: in, out, ground; amplifier: in plus, in minus, out, supply, ground; darlington: collector,
    base, emitter. `tolerances` has relative half-widths by parameter.
    """

    name: str
    type: str
    nodes: tuple[str, ...]
    values: Mapping[str, float]
    pins: tuple[Pin | None, ...] = ()
    tolerances: Mapping[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if len(self.nodes) != TERMINALS[self.type]:
            raise ValueError(f"{self.name}: a {self.type} has {TERMINALS[self.type]} terminals")
        missing = set(PARAMETERS[self.type]) - set(self.values)
        if missing:
            raise ValueError(f"{self.name}: a {self.type} needs {sorted(missing)}")


@dataclass(frozen=True)
class Network:
    """Elements and the node that counts as 0 V."""

    elements: tuple[Element, ...]
    ground: str

    def nodes(self) -> list[str]:
        """Return the node names in a stable order, the ground left out."""
        found = dict.fromkeys(n for e in self.elements for n in e.nodes)
        found.pop(self.ground, None)
        return list(found)

    def with_elements(self, more: Iterable[Element]) -> Network:
        """Return the network with elements added."""
        return replace(self, elements=(*self.elements, *more))

    def without(self, name: str) -> Network:
        """Return the network with every element of this name taken out."""
        return replace(self, elements=tuple(e for e in self.elements if e.name != name))

    def changed(self, name: str, **values: float) -> Network:
        """Return the network with parameters of the elements of this name replaced where they have them."""

        def fresh(e: Element) -> Element:
            own = {k: v for k, v in values.items() if k in e.values}
            return replace(e, values={**e.values, **own}) if e.name == name and own else e

        return replace(self, elements=tuple(fresh(e) for e in self.elements))


@dataclass(frozen=True)
class Group:
    """All elements of one type as arrays. E elements, B samples."""

    type: str
    index: tuple[int, ...]
    nodes: IntArray  # (E, terminals), the ground is the last row
    branch: IntArray  # (E,), row of the branch current; empty without branches
    values: dict[str, FloatArray]  # name -> (B, E)


class Scatter:
    """Adds values up at fixed places: which value goes where is sorted once, then each call is one pass."""

    def __init__(self, places: IntArray, size: int) -> None:
        self._order = np.argsort(places, kind="stable")
        ordered = places[self._order]
        self._starts = np.flatnonzero(np.diff(ordered, prepend=-1))
        self._targets = ordered[self._starts]
        self._size = size

    def __call__(self, values: FloatArray) -> FloatArray:
        """Return (B, size) sums of `values` (B, K) at their places."""
        out = np.zeros((len(values), self._size))
        if len(self._targets):
            out[:, self._targets] = np.add.reduceat(values[:, self._order], self._starts, axis=1)
        return out


@dataclass(frozen=True)
class Compiled:
    """A network ready for the solver. N nodes without ground, M branches; unknowns are N + M, ground is row N + M.

    `residual` and `jacobian` scatter, bent group by bent group, terminal currents, branch equations, and their
    derivatives; `ohmic` scatters the conductances of the resistors, which stay the same from step to step.
    """

    network: Network
    names: list[str]
    groups: tuple[Group, ...]
    batch: int
    size: int
    residual: Scatter
    jacobian: Scatter
    ohmic: Scatter

    @property
    def bent(self) -> tuple[Group, ...]:
        """The groups that are not plain resistors."""
        return tuple(g for g in self.groups if g.type != "resistor")


def compile_network(network: Network, scale: Mapping[tuple[int, str], FloatArray] | None = None) -> Compiled:
    """Return the arrays of `network`.

    `scale` multiplies parameters: (element index, parameter) -> (B,) factors; all B must agree.
    """
    scale = scale or {}
    batch = max((len(f) for f in scale.values()), default=1)

    def values(index: tuple[int, ...], kind: str) -> dict[str, FloatArray]:
        chosen = [network.elements[i] for i in index]
        found = {p: np.tile([float(e.values[p]) for e in chosen], (batch, 1)) for p in PARAMETERS[kind]}
        for column, i in enumerate(index):
            for parameter in PARAMETERS[kind]:
                if (i, parameter) in scale:
                    found[parameter][:, column] *= scale[i, parameter]
        return found

    return _compile(network, batch, values)


def compile_alike(networks: Sequence[Network]) -> Compiled:
    """Return the arrays of networks that differ in values only, as the samples of one batch. See `shape_of`."""

    def values(index: tuple[int, ...], kind: str) -> dict[str, FloatArray]:
        return {
            p: np.array([[float(n.elements[i].values[p]) for i in index] for n in networks]) for p in PARAMETERS[kind]
        }

    return _compile(networks[0], len(networks), values)


def shape_of(network: Network) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Return what two networks must share to be compiled as one batch: the types and nodes of their elements."""
    return tuple((e.type, e.nodes) for e in network.elements)


def _compile(network: Network, batch: int, values: Callable[[tuple[int, ...], str], dict[str, FloatArray]]) -> Compiled:
    names = network.nodes()
    rows = {name: i for i, name in enumerate(names)}
    branches = [i for i, e in enumerate(network.elements) if e.type in BRANCHES]
    size = len(names) + len(branches)
    rows[network.ground] = size
    branch_row = {i: len(names) + k for k, i in enumerate(branches)}
    groups = []
    for kind in TERMINALS:
        index = tuple(i for i, e in enumerate(network.elements) if e.type == kind)
        if not index:
            continue
        nodes = np.array([[rows[n] for n in network.elements[i].nodes] for i in index], dtype=np.int64)
        branch = np.array([branch_row[i] for i in index if i in branch_row], dtype=np.int64)
        groups.append(Group(kind, index, nodes, branch, values(index, kind)))
    residual, jacobian = _places([g for g in groups if g.type != "resistor"], size + 1)
    _, ohmic = _places([g for g in groups if g.type == "resistor"], size + 1)
    square = (size + 1) ** 2
    return Compiled(
        network,
        names,
        tuple(groups),
        batch,
        size,
        Scatter(residual, size + 1),
        Scatter(jacobian, square),
        Scatter(ohmic, square),
    )


def _places(groups: list[Group], width: int) -> tuple[IntArray, IntArray]:
    """Return where each residual and each Jacobian entry goes, in the order in which the solver lists them."""
    residual: list[IntArray] = []
    jacobian: list[IntArray] = []
    for g in groups:
        rows = g.nodes
        residual.append(rows.reshape(-1))
        jacobian.append((rows[:, :, None] * width + rows[:, None, :]).reshape(-1))
        if len(g.branch):
            column = np.broadcast_to(g.branch[:, None], rows.shape)
            residual.append(g.branch)
            jacobian += [(rows * width + column).reshape(-1), (column * width + rows).reshape(-1)]
            jacobian.append(g.branch * width + g.branch)
    nothing = np.zeros(0, dtype=np.int64)
    return np.concatenate([nothing, *residual]), np.concatenate([nothing, *jacobian])
