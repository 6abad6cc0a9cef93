"""What a data sheet says of a kind beyond its model: typed, each with its unit, unknown names refused."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import msgspec


class Facts(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Figures that the review, the bench and the drawings read. None: the data sheet was not asked."""

    supply_min_v: float | None = None
    supply_max_v: float | None = None
    input_min_v: float | None = None
    input_max_v: float | None = None
    gives_v: float | None = None
    float_v: float | None = None
    pin_max_v: float | None = None
    pin_over_supply_max_v: float | None = None
    pin_max_a: float | None = None
    input_high_share: float | None = None
    input_low_share: float | None = None
    drain_source_max_v: float | None = None
    gate_source_max_v: float | None = None
    collector_emitter_max_v: float | None = None
    current_max_a: float | None = None
    contact_max_a: float | None = None
    driven_max_a: float | None = None
    stand_off_v: float | None = None
    junction_max_c: float | None = None
    ambient_max_c: float | None = None
    coil_h: float | None = None
    coil_v: float | None = None
    load_f: float | None = None
    oscillator_load_f: float | None = None
    capacity_mah: float | None = None
    charge_max_c_rate: float | None = None
    charge_factor_v: float | None = None
    price_eur: float | None = None
    all_call: int | None = None
    outside: bool = False
    keyed: bool = False
    exact: bool = False
    can_be_reversed: bool = False
    inductive: bool = False
    ac: bool = False
    light: bool = False
    strip: Literal["", "header", "socket"] = ""

    @property
    def feed_range_v(self) -> tuple[float, float] | None:
        """The supply range that the kind works in, or its input range; None unless both ends are known."""
        low = self.supply_min_v if self.supply_min_v is not None else self.input_min_v
        high = self.supply_max_v if self.supply_max_v is not None else self.input_max_v
        return None if low is None or high is None else (low, high)


# Names of facts before they carried their units; part files that have them are read as ever.
FORMER_NAMES = {
    "v_min": "supply_min_v",
    "v_max": "supply_max_v",
    "v_in_min": "input_min_v",
    "v_in_max": "input_max_v",
    "pin_max": "pin_max_v",
    "pin_max_over_supply": "pin_over_supply_max_v",
    "i_pin_max_a": "pin_max_a",
    "v_ih_fraction": "input_high_share",
    "v_il_fraction": "input_low_share",
    "v_ds_max": "drain_source_max_v",
    "vgs_max": "gate_source_max_v",
    "v_ce_max": "collector_emitter_max_v",
    "i_max_a": "current_max_a",
    "contact_a_max": "contact_max_a",
    "tj_max_c": "junction_max_c",
    "t_max_c": "ambient_max_c",
    "charge_max_c": "charge_max_c_rate",
    "volt_ampere_ohm": "charge_factor_v",
}
_YES_NO = tuple(f.name for f in msgspec.structs.fields(Facts) if f.type is bool)
_WHOLE = ("all_call",)


def in_todays_names(table: Mapping[str, object]) -> dict[str, object]:
    """Return a table of facts with former names and former forms (1 for true, 112.0 for 112) brought up."""
    found: dict[str, object] = {}
    for name, value in table.items():
        today = FORMER_NAMES.get(name, name)
        fresh: object = value
        if today in _YES_NO and isinstance(value, int | float) and value in (0, 1):
            fresh = bool(value)
        elif today in _WHOLE and isinstance(value, float) and value.is_integer():
            fresh = int(value)
        found[today] = fresh
    return found


def stated(value: float | None, default: float) -> float:
    """Return what a data sheet states, or the figure to take where it was not asked."""
    return default if value is None else value
