"""How far a reading may be off: a share of it and a constant, as an instrument's sheet states it, and since when.

A limit is guarded by it: a reading that lies within the limit, but nearer to it than the instrument may be off, proves
nothing either way (ISO 14253-1: conformity is proved only where the uncertainty leaves no doubt).
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date

from zesty_trace.core.quantities import say
from zesty_trace.errors import InputError
from zesty_trace.names import shorten

YEAR_DAYS = 366
MOST_PCT = 50.0
_PREFIX = {"": 1.0, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "m": 1e-3, "k": 1e3}
_TERM = re.compile(r"(\d+(?:\.\d+)?)\s*(%|(?:[nuµmk]?)(?:V|A|Ω|ohm|R)?)", re.I)


@dataclass(frozen=True)
class Accuracy:
    """± `pct` % of the reading and a constant, in the unit of what is measured."""

    pct: float
    constant: float

    def of(self, value: float) -> float:
        """Return how far a reading may be off."""
        return abs(value) * self.pct / 100 + self.constant

    def words(self, unit: str) -> str:
        """Return it as a sheet writes it."""
        return f"±({self.pct:g} % + {say(self.constant, unit)})"


@dataclass(frozen=True)
class Trusted:
    """What is known of the instruments: accuracy by unit (None where it was not said), and the day of calibration.

    `exact` are stand-ins, which have no error of their own.
    """

    meter: str = ""
    volt: Accuracy | None = None
    ohm: Accuracy | None = None
    amp: Accuracy | None = None
    calibrated: date | None = None
    exact: bool = False

    def off(self, value: float, unit: str) -> float:
        """Return how far a reading in this unit may be off; 0 where that is not known."""
        found = {"V": self.volt, "Ω": self.ohm, "A": self.amp}.get(unit)
        return found.of(value) if found is not None else 0.0

    @property
    def unknown(self) -> tuple[str, ...]:
        """The units of which no accuracy is known."""
        if self.exact:
            return ()
        return tuple(u for u, a in (("V", self.volt), ("Ω", self.ohm), ("A", self.amp)) if a is None)

    def due(self, today: date) -> bool:
        """Whether the day of calibration is not known, or a year ago."""
        return not self.exact and (self.calibrated is None or (today - self.calibrated).days > YEAR_DAYS)

    def words(self, today: date) -> str:
        """Return what is known and what is not, for the screen and the record."""
        if self.exact:
            return "Stand-ins measure without an error of their own."
        known = [f"{a.words(u)}" for u, a in (("V", self.volt), ("Ω", self.ohm), ("A", self.amp)) if a is not None]
        said = [f"{self.meter or 'The meter'}: {', '.join(known)}" if known else f"{self.meter or 'The meter'}"]
        if self.calibrated is None:
            said.append("its day of calibration is not known")
        elif self.due(today):
            said.append(f"calibrated {self.calibrated}, more than a year ago")
        else:
            said.append(f"calibrated {self.calibrated}")
        if self.unknown:
            said.append(
                f"how far it may be off is not known for {', '.join(self.unknown)}: those limits are not guarded"
            )
        return "; ".join(said) + "."


NOT_KNOWN = Trusted()
EXACT = Trusted("stand-ins", exact=True)


def read_accuracy(text: str, unit: str, where: str = "accuracy") -> Accuracy:
    """Return `0.5 % + 2 mV` as an accuracy, in either order, either part alone. InputError for anything else.

    >>> read_accuracy("0.5% + 2mV", "V")
    Accuracy(pct=0.5, constant=0.002)
    """
    pct = constant = None
    for term in text.replace("±", "").strip("() ").split("+"):
        match = _TERM.fullmatch(term.strip())
        if match is None:
            raise _no_accuracy(text, where)
        number, of = float(match[1]), match[2]
        if of == "%" and pct is None:
            pct = number
        elif of != "%" and constant is None:
            constant = number * _scale(of, unit, text, where)
        else:
            raise _no_accuracy(text, where)
    if (pct or 0.0) > MOST_PCT:
        raise InputError(f"{pct:g} % is no meter", where, f"At most {MOST_PCT:g} %")
    return Accuracy(pct or 0.0, constant or 0.0)


def _scale(of: str, unit: str, text: str, where: str) -> float:
    names = {"V": ("V",), "A": ("A",), "Ω": ("Ω", "ohm", "R", "OHM", "Ohm")}[unit]
    for name in (*names, ""):
        if of.endswith(name) and of.removesuffix(name) in _PREFIX and (name or of):
            return _PREFIX[of.removesuffix(name)]
    if not of:
        return 1.0
    raise _no_accuracy(text, where)


def _no_accuracy(text: str, where: str) -> InputError:
    return InputError(
        f"“{shorten(text)}” is no accuracy", where, "Write it like 0.5 % + 2 mV, as the meter's sheet does"
    )
