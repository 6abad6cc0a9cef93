"""What is known of the instruments on the bench: said once by their owner, asked for again each year."""

from __future__ import annotations

from datetime import date

from msgspec.structs import replace

from zesty_trace.core.bench.accuracy import Accuracy, Trusted, read_accuracy
from zesty_trace.core.ordering.days import read_date
from zesty_trace.errors import InputError
from zesty_trace.names import check_text
from zesty_trace.store.bench import BY_HAND, Instrument, keep_instrument, load_instruments

ASK_AGAIN_DAYS = 365
MOST_NAME = 120


def trusted_of(meter: str = "", supply: str = "") -> Trusted:
    """Return what is known of a meter and a supply, by what they call themselves; "" is what a person reads off."""
    known = load_instruments()
    one, other = known.get(meter or BY_HAND, Instrument()), known.get(supply or BY_HAND, Instrument())
    return Trusted(
        meter or "The meter read by hand",
        _read(one.volt, "V"),
        _read(one.ohm, "Ω"),
        _read(other.amp, "A"),
        _day(one.calibrated),
    )


def _read(text: str, unit: str) -> Accuracy | None:
    try:
        return read_accuracy(text, unit) if text else None
    except InputError:
        return None


def _day(text: str) -> date | None:
    try:
        return read_date(text)
    except InputError:
        return None


def say_instrument(name: str, today: date, **said: str) -> Instrument:
    """Keep what was said of an instrument: volt, ohm, amp as accuracies, calibrated as a day; "" leaves it as it is.

    InputError for what is not understood; StoreError.
    """
    name = name.strip() or BY_HAND
    check_text(name, "instrument", MOST_NAME)
    for field, unit in (("volt", "V"), ("ohm", "Ω"), ("amp", "A")):
        if said.get(field):
            read_accuracy(said[field], unit, field)
    day = read_date(said.get("calibrated", ""), "calibrated")
    if day is not None and day > today:
        raise InputError(f"{day} has not come yet", "calibrated", "Write the day on its label")
    before = load_instruments().get(name, Instrument())
    found = replace(before, asked=today.isoformat(), **{k: v.strip() for k, v in said.items() if v.strip()})
    keep_instrument(name, found)
    return found


def must_ask(name: str, today: date) -> bool:
    """Whether to ask for the day of calibration: it is missing or a year old, and was not asked for within a year."""
    found = load_instruments().get(name or BY_HAND, Instrument())
    asked, day = _day(found.asked), _day(found.calibrated)
    if day is not None and (today - day).days <= ASK_AGAIN_DAYS:
        return False
    return asked is None or (today - asked).days > ASK_AGAIN_DAYS
