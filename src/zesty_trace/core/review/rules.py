"""The electrical review: every rule, run over one design."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, worst_first
from zesty_trace.core.review import (
    analogue,
    bus,
    charge,
    connections,
    drive,
    fitted,
    heat,
    levels,
    plugs,
    pull_ups,
    straps,
    supply,
)
from zesty_trace.errors import SolveError

Rule = Callable[[Wired], Iterator[Finding]]
STATIC: tuple[Rule, ...] = (
    connections.ground_missing,
    connections.unconnected_pins,
    connections.lonely_nets,
    bus.bus_address_clash,
    straps.reserved_address,
    straps.all_call_address,
    straps.strap_cannot_change,
    straps.boot_strap,
    straps.reset_network,
    straps.enable_left_open,
    straps.negotiation,
    drive.gate_pull_down,
    drive.coil_suppression,
    supply.decoupling,
    supply.fuse_missing,
    supply.test_point_missing,
    supply.programming_access,
    supply.floating_input,
    supply.contention,
    analogue.divider_impedance,
    analogue.crystal_load,
    charge.charge_rate,
    charge.charger_without_set,
    charge.usb_pull_downs,
    plugs.reverse_polarity,
    plugs.static_protection,
    plugs.mains_fuse,
    plugs.contact_suppression,
    fitted.option_leaves_floating,
    fitted.option_broken,
    fitted.exact_version,
    fitted.ambient,
    fitted.open_drain_pull_up,
    fitted.no_connect_wired,
)
SOLVED: tuple[Rule, ...] = (
    heat.heat,
    levels.level_clash,
    levels.high_too_low,
    levels.supply_range,
    drive.led_current,
    drive.pin_overload,
    drive.resistor_power,
    drive.capacitor_rating,
    supply.dropout,
    supply.supply_overload,
    pull_ups.bus_pull_ups,
    analogue.divider_range,
    analogue.shared_ground,
    charge.usb_inrush,
    charge.droop,
    charge.supplies_joined,
    plugs.header_turned,
    plugs.voltage_selector,
    plugs.mains,
    fitted.transistor_rating,
    fitted.gate_drive,
    fitted.led_dim,
)


def review(wired: Wired) -> list[Finding]:
    """Return the findings of all electrical rules, worst first. A circuit that cannot be solved is itself a finding."""
    found = [f for rule in STATIC for f in rule(wired)]
    try:
        found += [f for rule in SOLVED for f in rule(wired)]
    except SolveError as error:
        found.append(
            Finding(
                rule="solve",
                key="solve",
                severity=Severity.STOP,
                title="The circuit cannot be solved",
                detail=str(error),
                why="Without voltages and currents no other judgement can be made.",
                source="nodal analysis",
                station="schematic",
            )
        )
    return worst_first(found)
