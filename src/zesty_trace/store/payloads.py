"""What an event of a board's record says beside its words.

Who told it, of which design, with what, and what was read.
"""

from __future__ import annotations

from typing import Any

import msgspec


class Told(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """Where an event comes from. `source` is real, simulated or person; anything else counts as not known."""

    source: str = ""
    who: str = ""
    bench: str = ""
    design: str = ""
    variant: str = ""


class FlashTold(Told, frozen=True, kw_only=True, omit_defaults=True):
    """What was written into which chip, over which port. `bytes` is the size of the image."""

    port: str = ""
    image: str = ""
    sha256: str = ""
    bytes: int = 0
    target: str = ""
    chip: str = ""
    product_id: int = 0
    bootloader: str = ""


class ReadingTold(msgspec.Struct, frozen=True, kw_only=True):
    """What one step of the test plan found. `value` is None where nothing was measured; it is in `unit`."""

    step: int
    kind: str = ""
    title: str = ""
    value: float | None = None
    low: float | None = None
    high: float | None = None
    expected: float | None = None
    unit: str = ""
    passed: bool = False
    text: str = ""
    measured: bool = True
    off: float = 0.0
    near: bool = False


class MeasureTold(Told, frozen=True, kw_only=True, omit_defaults=True):
    """By which plan (its checksum), for which variant and with what a board was measured, and what was read.

    `zero` says how 0 V was proved before and after, `meter` how far readings may be off and since when that is known.
    """

    plan: str = ""
    plan_variant: str = ""
    instruments: tuple[str, ...] = ()
    zero: str = ""
    meter: str = ""
    readings: tuple[ReadingTold, ...] = ()


class Made(msgspec.Struct, frozen=True, kw_only=True):
    """Of which revision and variant a board is."""

    revision: str = ""
    variant: str = ""


PAYLOADS: dict[str, type[Told]] = {"flashing": FlashTold, "flashed": FlashTold, "measured": MeasureTold}


def payload_of(kind: str, plain: str) -> Told:
    """Return what an event of this kind says. Of what cannot be read, the plain texts that say where it is from."""
    wanted = PAYLOADS.get(kind, Told)
    for form in (wanted, Told):
        try:
            return msgspec.json.decode(plain, type=form)
        except (ValueError, RecursionError, msgspec.MsgspecError, TypeError):
            continue
    said = fields_of(plain)
    texts = {k: v for k, v in said.items() if k in Told.__struct_fields__ and isinstance(v, str)}
    return wanted(**texts)


def made_of(plain: str) -> Made:
    """Return of which revision and variant a board was made; empty where that cannot be read."""
    said = fields_of(plain)
    return Made(revision=str(said.get("revision", "")), variant=str(said.get("variant", "")))


def fields_of(plain: str) -> dict[str, Any]:
    """Return the fields of an event's data as they are; empty where they cannot be read."""
    try:
        found = msgspec.json.decode(plain)
    except (ValueError, RecursionError, msgspec.MsgspecError, TypeError):
        return {}
    return found if isinstance(found, dict) else {}
