"""Rule: every device on one two-wire bus answers at an address of its own."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import combinations

from zesty_trace.core.catalogue.kinds import Strap
from zesty_trace.core.circuit.bus import bus_addresses, bus_groups, strap_level, strap_pin
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.findings import Finding, Mend, Severity, Subject, of_part, rule
from zesty_trace.core.quantities import say_address
from zesty_trace.core.review.register import static

BUS_ADDRESS = rule(
    "bus address",
    Severity.FIX,
    "Both pull the data line at once, so neither can be read. Straps that cannot be changed later need a knife "
    "and a wire on every board.",
    "UM10204 (I2C-bus specification): addresses on one bus are unique",
    limits="each address once on a bus, no strap left open",
)


@static
def bus_address_clash(wired: Wired) -> Iterator[Finding]:
    """Yield pairs of devices that answer at one address and are fitted together, with the strap that parts them."""
    addresses = bus_addresses(wired)
    for group in bus_groups(wired):
        taken = {addresses[ref] for ref in group if ref in addresses}
        for a, b in combinations(sorted(r for r in group if r in addresses), 2):
            if addresses[a] is None or addresses[a] != addresses[b] or not _fitted_together(wired.design, a, b):
                continue
            yield _clash(wired, a, b, addresses[a] or 0, taken)
    for ref, address in addresses.items():
        if address is None:
            yield _undecided(wired, ref)


def _fitted_together(design: Design, a: str, b: str) -> bool:
    variants = design.variants or ("",)
    return any(design.parts[a].fitted(v) and design.parts[b].fitted(v) for v in variants)


def _clash(wired: Wired, a: str, b: str, address: int, taken: set[int | None]) -> Finding:
    option = _free_strap(wired, b, address, taken) or _free_strap(wired, a, address, taken)
    straps = ", ".join(f"{r}.{s.pin}" for r in (a, b) for s in _straps(wired, r))
    detail = f"Both answer at {say_address(address)}."
    mend = None
    if option:
        pin, net, fresh = option
        detail += f" {straps} are tied alike. Tie {wired.label(pin)} to {net} for {say_address(fresh)}."
        mend = Mend(f"Tie {wired.label(pin)} to {net}", partial(edits.connect, pin=pin, net=net))
    else:
        detail += " No strap can part them: use a part with another address, or a second bus."
    return BUS_ADDRESS.found(
        Subject(refs=(a, b)),
        f"Two devices answer {say_address(address)}: {a} and {b}",
        detail,
        value=float(address),
        unit="address",
        mend=mend,
    )


def _straps(wired: Wired, ref: str) -> tuple[Strap, ...]:
    bus = wired.kind(ref).bus
    return bus.straps if bus else ()


def _free_strap(wired: Wired, ref: str, address: int, taken: set[int | None]) -> tuple[Pin, str, int] | None:
    """Return (strap pin, net to tie it to, the address it then has) for a change that is free on the bus."""
    supply = wired.supply_of(ref)
    for strap in _straps(wired, ref):
        pin = strap_pin(wired, ref, strap)
        level = strap_level(wired, pin)
        net = supply if level == "low" else wired.ground
        fresh = address + (strap.high - strap.low if level == "low" else strap.low - strap.high)
        if net and fresh not in taken:
            return pin, net, fresh
    return None


def _undecided(wired: Wired, ref: str) -> Finding:
    names = ", ".join(wired.label(strap_pin(wired, ref, s)) for s in _straps(wired, ref))
    return BUS_ADDRESS.found(
        of_part(ref),
        f"{ref} has no fixed bus address",
        f"Tie {names} to ground or to its supply.",
        why="An open strap reads as whatever it picks up, so the address changes from board to board.",
        source="common practice",
    )
