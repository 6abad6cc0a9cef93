"""A design with its catalogue: what almost everything is worked out from, read off once and kept with the value.

Two `Wired` are the same only if they are one object: jobs and kept results are keyed on it, so that a catalogue read
anew is seen.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass, field
from functools import cached_property, wraps
from threading import RLock
from typing import Any, Concatenate, NamedTuple, ParamSpec, TypeVar

import msgspec

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kind import Kind, PackageSpec, PinSpec
from zesty_trace.core.catalogue.kinds import Catalogue, check_kinds
from zesty_trace.core.circuit.feeding import inlets_by_wiring
from zesty_trace.core.design.model import Design, Part, Pin, to_json
from zesty_trace.core.design.reading import from_json
from zesty_trace.core.stated import leading_value
from zesty_trace.errors import InputError

SWITCHES = (m.FieldEffect, m.Bipolar)
_Read = TypeVar("_Read")


class Neighbour(NamedTuple):
    """A two-pin part on a net: its pin there, its value (0.0 if none is stated), and the net beyond ("" if open)."""

    pin: Pin
    value: float
    beyond: str

    @property
    def ref(self) -> str:
        """The part's reference."""
        return self.pin.ref


# What is read off parts, nets and catalogue alone.
OF_THE_NETLIST = ("net_of", "ground", "rails", "_by_wiring", "_specs", "footprints", "raised", "standing")
Reads = Callable[["Wired"], tuple[Any, ...]]


class _Slot:
    """One answer and the lock of who works it out."""

    def __init__(self, reads: Reads | None) -> None:
        self.lock = RLock()
        self.reads = reads
        self.done = False
        self.answer: Any = None


def same(a: tuple[Any, ...], b: tuple[Any, ...]) -> bool:
    """Whether two readings agree; what is one object is not looked into."""
    return len(a) == len(b) and all(x is y or x == y for x, y in zip(a, b, strict=True))


@dataclass(frozen=True, eq=False)
class Wired:
    """A design and the catalogue that its parts are from. Frozen.

    Everything on it is worked out when first asked for.
    """

    design: Design
    catalogue: Catalogue = field(repr=False)
    _known: dict[tuple[Callable[..., Any], tuple[Hashable, ...]], _Slot] = field(
        default_factory=dict, repr=False, init=False
    )
    _lock: RLock = field(default_factory=RLock, repr=False, init=False)

    def __getstate__(self) -> tuple[Design, Catalogue]:
        return self.design, self.catalogue

    def __setstate__(self, state: tuple[Design, Catalogue]) -> None:
        fresh = Wired(*state)
        for name in ("design", "catalogue", "_known", "_lock"):
            object.__setattr__(self, name, getattr(fresh, name))

    def with_design(self, design: Design) -> Wired:
        """Return another design with the same catalogue; itself if it is this one."""
        return self if design is self.design else Wired(design, self.catalogue)

    def edited(self, edit: Callable[..., Design], *args: Any, **named: Any) -> Wired:
        """Return what an edit makes of the design, with the same catalogue. EditError as the edit."""
        return self.with_design(edit(self.design, *args, **named))

    def once(self, read: Callable[..., _Read], reads: Reads | None = None, *more: Hashable) -> _Read:
        """Return what `read` gives for this value, worked out once however many threads ask.

        With `reads`, which gives all that the answer depends on, it is handed on to values that agree there.
        """
        with self._lock:
            slot = self._known.setdefault((read, more), _Slot(reads))
        with slot.lock:
            if not slot.done:
                slot.answer, slot.done = read(self, *more), True
            found: _Read = slot.answer
            return found

    def after(self, before: Wired | None) -> Wired:
        """Take over from an earlier value what depends only on what is still the same; return itself."""
        if before is None:
            return self
        alike = before.design.parts is self.design.parts and before.design.nets is self.design.nets
        if alike and before.catalogue is self.catalogue:
            for name in OF_THE_NETLIST:
                if name in before.__dict__:
                    self.__dict__.setdefault(name, before.__dict__[name])
        with before._lock:
            known = list(before._known.items())
        for read, slot in known:
            if slot.done and slot.reads is not None and same(slot.reads(before), slot.reads(self)):
                self._known.setdefault(read, slot)
        return self

    @cached_property
    def net_of(self) -> dict[Pin, str]:
        """Pin -> net."""
        return self.design.net_of()

    @cached_property
    def ground(self) -> str:
        """The net that holds most ground pins, else one called GND, else ""."""
        best, count = "GND" if "GND" in self.design.nets else "", 0
        for name, pins in self.design.nets.items():
            grounds = sum(self.spec(p).role == "ground" for p in pins)
            if grounds > count:
                best, count = name, grounds
        return best

    @cached_property
    def rails(self) -> tuple[str, ...]:
        """Nets that feed supply pins, or that a supply gives out, ground left out; in the order of the design."""
        return tuple(
            name
            for name, pins in self.design.nets.items()
            if name != self.ground and {self.spec(p).role for p in pins} & {"supply_in", "supply_out"}
        )

    @cached_property
    def _by_wiring(self) -> dict[str, Kind]:
        """Plain connectors that bring the supply, as the inlets that they are."""
        return inlets_by_wiring(self.design, self.catalogue)

    @cached_property
    def _specs(self) -> dict[str, dict[str, PinSpec]]:
        """Kind, or reference of a part that is more than its kind -> number -> pin."""
        kinds = {part.kind: self.catalogue.kind(part.kind) for part in self.design.parts.values()}
        return {k: {s.number: s for s in reversed(kind.pins)} for k, kind in {**kinds, **self._by_wiring}.items()}

    def part(self, ref: str) -> Part:
        """Return a part."""
        return self.design.parts[ref]

    def kind(self, ref: str) -> Kind:
        """Return the kind of a part, of a plain connector that brings the supply as an inlet."""
        return self._by_wiring.get(ref) or self.catalogue.kind(self.design.parts[ref].kind)

    def package(self, ref: str) -> PackageSpec:
        """Return the package of a part: its own, else the first of its kind."""
        return self.catalogue.package(self.design.parts[ref].package or self.kind(ref).packages[0])

    def spec(self, pin: Pin) -> PinSpec:
        """Return a pin's name and role. KeyError if the kind has no such pin."""
        try:
            by = pin.ref if pin.ref in self._by_wiring else self.design.parts[pin.ref].kind
            return self._specs[by][pin.number]
        except KeyError:
            raise KeyError(str(pin)) from None

    def label(self, pin: Pin) -> str:
        """Return `U4.ADR`."""
        return f"{pin.ref}.{self.spec(pin).name}"

    def pin(self, ref: str, name: str) -> Pin:
        """Return the pin of this name. KeyError if the kind has none."""
        return Pin(ref, self.kind(ref).pin_named(name).number)

    def pin_of_role(self, ref: str, role: str) -> Pin | None:
        """Return the first pin of a part with this role."""
        spec = self.kind(ref).of_role(role)
        return Pin(ref, spec.number) if spec else None

    def net_at(self, ref: str, name: str) -> str:
        """Return the net of the pin of this name, "" if it is on none. KeyError if the kind has no such pin."""
        return self.net_of.get(self.pin(ref, name), "")

    @cached_property
    def footprints(self) -> dict[str, str]:
        """Reference -> package."""
        return {ref: part.package or self.kind(ref).packages[0] for ref, part in self.design.parts.items()}

    @cached_property
    def raised(self) -> dict[str, int]:
        """Reference -> how high above the board its seat is, nm; only of parts in sockets or on spacers."""
        return {ref: part.raised_nm for ref, part in self.design.parts.items() if part.raised_nm}

    @cached_property
    def standing(self) -> dict[str, tuple[str, ...]]:
        """Reference -> the headers that it stands on; only of modules that stand on some."""
        return {ref: part.stands_on for ref, part in self.design.parts.items() if part.stands_on}

    def pins(self) -> Iterator[tuple[Pin, PinSpec]]:
        """Yield every pin of every part."""
        for ref in self.design.parts:
            for spec in self.kind(ref).pins:
                yield Pin(ref, spec.number), spec

    def pins_of(self, ref: str) -> list[Pin]:
        """Return the pins of a part."""
        return [Pin(ref, spec.number) for spec in self.kind(ref).pins]

    def on(self, net: str | None) -> tuple[Pin, ...]:
        """Return the pins on a net; none if there is no such net."""
        return self.design.nets.get(net or "", ())

    def of_model(self, *models: type[m.Model]) -> list[str]:
        """Return the references of parts of these models."""
        return [ref for ref in self.design.parts if self.kind(ref).is_a(*models)]

    def two_terminal(self, ref: str) -> bool:
        """Whether the part has just two pins, both passive."""
        pins = self.kind(ref).pins
        return len(pins) == 2 and all(p.role == "passive" for p in pins)

    def beyond(self, pin: Pin) -> str | None:
        """Return the net at the other end of a two-pin part."""
        return self.net_of.get(far_pin(pin))

    def near(self, net: str | None, *models: type[m.Model]) -> list[Neighbour]:
        """Return the two-pin parts of these models on a net."""
        found = []
        for pin in self.on(net):
            kind = self.kind(pin.ref)
            if len(kind.pins) == 2 and kind.is_a(*models):
                value = leading_value(self.design.parts[pin.ref].value) or 0.0
                found.append(Neighbour(pin, value, self.beyond(pin) or ""))
        return found

    def resistors_between(self, a: str, b: str) -> list[Pin]:
        """Return the pins on `b` of resistors that join nets `a` and `b`."""
        return [far_pin(n.pin) for n in self.near(a, m.Resistor) if n.beyond == b]

    def supply_of(self, ref: str) -> str | None:
        """Return the net that feeds a part's supply pin."""
        feed = self.kind(ref).supply_pins()
        return self.net_of.get(Pin(ref, feed[0].number)) if feed else None

    def signal(self, net: str) -> bool:
        """Whether a net is neither ground nor a supply."""
        return net != self.ground and net not in self.rails


def far_pin(pin: Pin) -> Pin:
    """Return the other pin of a part with pins 1 and 2."""
    return Pin(pin.ref, "2" if pin.number == "1" else "1")


_More = ParamSpec("_More")


def worked_out(read: Callable[Concatenate[Wired, _More], _Read]) -> Callable[Concatenate[Wired, _More], _Read]:
    """Keep what `read` gives with the value that it was asked for.

    More arguments are positional, and names or numbers.
    """

    @wraps(read)
    def remembered(wired: Wired, /, *more: _More.args, **none: _More.kwargs) -> _Read:
        return wired.once(read, None, *more)  # type: ignore[arg-type]

    return remembered


def worked_out_from(
    reads: Reads,
) -> Callable[[Callable[Concatenate[Wired, _More], _Read]], Callable[Concatenate[Wired, _More], _Read]]:
    """Keep what a function gives, as worked_out does, also for later values that agree in what `reads` gives."""

    def keep(read: Callable[Concatenate[Wired, _More], _Read]) -> Callable[Concatenate[Wired, _More], _Read]:
        @wraps(read)
        def remembered(wired: Wired, /, *more: _More.args, **none: _More.kwargs) -> _Read:
            return wired.once(read, reads, *more)  # type: ignore[arg-type]

        return remembered

    return keep


class _Packed(msgspec.Struct, frozen=True):
    """A design with the kinds and packages that it uses, as it travels to another process."""

    design: msgspec.Raw
    kinds: dict[str, Kind]
    packages: dict[str, PackageSpec]


def pack(wired: Wired) -> bytes:
    """Return a design with the kinds and packages that it uses as JSON; `unpack` reads it back in another process."""
    kinds = {p.kind: wired.catalogue.kind(p.kind) for p in wired.design.parts.values()}
    names = {wired.package(ref).id for ref in wired.design.parts} | {n for k in kinds.values() for n in k.packages}
    packages = {name: wired.catalogue.package(name) for name in sorted(names)}
    return msgspec.json.encode(_Packed(msgspec.Raw(to_json(wired.design)), kinds, packages))


def unpack(data: bytes, where: str = "wired.json") -> Wired:
    """Return what `pack` wrote, checked as a whole. InputError."""
    try:
        packed = msgspec.json.decode(data, type=_Packed)
    except (msgspec.MsgspecError, UnicodeError, RecursionError) as error:
        raise InputError(f"It is not a design with its catalogue: {error}", where, "Write it again") from error
    check_kinds(packed.kinds, packed.packages, where)
    return Wired(from_json(bytes(packed.design), where), Catalogue(packed.kinds, packed.packages))
