"""A board by its serial number.

What happened to it, and where it stands now by its last flash, measurement and rework.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from zesty_trace.errors import InputError
from zesty_trace.store.payloads import FlashTold, MeasureTold, Told

EventKind = Literal["made", "assembled", "flashing", "flashed", "measured", "reworked", "note"]
KINDS: tuple[EventKind, ...] = ("made", "assembled", "flashing", "flashed", "measured", "reworked", "note")
DEVICE_KINDS = ("flashing", "flashed", "measured")  # a device told these; a person tells the others
HIGHEST_NUMBER = 99_999
NOTHING_TOLD = Told()


def serial_number(revision: str, number: int) -> str:
    """Return the serial number of board `number` of a revision: `A-001`."""
    return f"{revision}-{number:03d}"


def parse_serial(text: str, revision: str) -> int:
    """Return the board number of a serial number of this revision. InputError for anything else.

    >>> parse_serial(" a-002", "A")
    2
    """
    match = re.fullmatch(re.escape(revision) + r"-(\d{3,5})", text.strip(), re.IGNORECASE)
    number = int(match.group(1)) if match else 0
    if not 1 <= number <= HIGHEST_NUMBER or (
        match and serial_number(revision, number) != f"{revision}-{match.group(1)}"
    ):
        raise InputError(
            f"“{text[:40]}” is no serial number of revision {revision}",
            "serial",
            f"Write it like {serial_number(revision, 1)}",
        )
    return number


@dataclass(frozen=True)
class BoardEvent:
    """One thing that happened to a board. `verdict` is pass, fail or empty; `told` says with what and by whom."""

    serial: str
    at: str
    kind: str
    verdict: str
    summary: str
    told: Told = NOTHING_TOLD

    @property
    def simulated(self) -> bool:
        """Whether a stand-in told this, not a real device."""
        return self.told.source == "simulated"

    @property
    def real(self) -> bool:
        """Whether a real device told this."""
        return self.kind in DEVICE_KINDS and self.told.source == "real"

    @property
    def flash(self) -> FlashTold:
        """What was written into which chip; empty for an event of another kind."""
        return self.told if isinstance(self.told, FlashTold) else FlashTold()

    @property
    def measurement(self) -> MeasureTold:
        """What was measured by which plan; empty for an event of another kind."""
        return self.told if isinstance(self.told, MeasureTold) else MeasureTold()

    @property
    def words(self) -> str:
        """The summary, with a word where a stand-in told it."""
        if self.kind in DEVICE_KINDS and self.told.source not in ("real", "simulated"):
            return f"{self.summary} (not known whether simulated)"
        return f"{self.summary} (simulated)" if self.simulated else self.summary


@dataclass(frozen=True)
class Wanted:
    """What a board of the batch must hold and must have been measured by, as things are now; "" is not asked for."""

    image_sha256: str = ""
    plan: str = ""


@dataclass(frozen=True)
class Standing:
    """Where a board stands: pass, fail or open, why, and whether stand-ins only have told so."""

    verdict: str
    why: str
    simulated: bool = False

    @property
    def words(self) -> str:
        """The verdict, with a word where it is simulated."""
        return f"{self.verdict}, simulated" if self.simulated and self.verdict != "open" else self.verdict


@dataclass(frozen=True)
class BoardRecord:
    """A board and its events, oldest first."""

    serial: str
    revision: str
    variant: str
    events: tuple[BoardEvent, ...]
    distrust: str = ""  # why the records cannot be trusted: then the board stands as open, whatever they say

    @cached_property
    def real(self) -> bool:
        """Whether a real device has told anything of this board: then what stand-ins told does not count."""
        return any(e.real for e in self.events)

    @cached_property
    def counting(self) -> tuple[BoardEvent, ...]:
        """The events that count: all but the simulated ones of a real board."""
        real = self.real
        return tuple(e for e in self.events if not (real and e.kind in DEVICE_KINDS and not e.real))

    def last(self, *kinds: str) -> BoardEvent | None:
        """Return the newest event of these kinds that counts."""
        return next((e for e in reversed(self.counting) if e.kind in kinds), None)

    def content(self, image_sha256: str = "") -> Standing:
        """Return what the chip holds: pass for the verified image asked for, fail, or open with the reason."""
        event = self.last("flashing", "flashed")
        if self.distrust:
            return Standing("open", self.distrust)
        if event is None:
            return Standing("open", "not flashed yet")
        if event.kind == "flashing":
            return Standing("open", "unknown content: an attempt was not finished", event.simulated)
        if event.verdict != "pass":
            return Standing("fail", event.summary, event.simulated)
        if image_sha256 and event.flash.sha256 != image_sha256:
            return Standing("open", "holds another image than the one chosen now", event.simulated)
        return Standing("pass", event.summary, event.simulated)

    def standing(self, wanted: Wanted | None = None) -> Standing:
        """Return where the board stands by its last flash, measurement and rework.

        A measurement counts until the board is flashed or reworked after it, for the plan it was made by, and only
        while the chip holds the image asked for.
        """
        if self.distrust:
            return Standing("open", self.distrust)
        wanted = wanted or Wanted()
        events = self.counting
        index = max((k for k, e in enumerate(events) if e.kind == "measured"), default=None)
        if index is None:
            return Standing("open", "not measured yet")
        measured = events[index]
        later = next((e for e in events[index + 1 :] if e.kind in ("flashing", "flashed", "reworked")), None)
        if later is not None:
            words = "reworked" if later.kind == "reworked" else "flashed"
            return Standing("open", f"{words} since it was measured: measure it again", measured.simulated)
        if wanted.plan and measured.measurement.plan != wanted.plan:
            return Standing("open", "the test plan has changed since: measure it again", measured.simulated)
        if measured.verdict != "pass":
            return Standing(measured.verdict or "open", measured.summary, measured.simulated)
        if wanted.image_sha256:
            content = self.content(wanted.image_sha256)
            if content.verdict != "pass":
                return Standing("open", f"measured well, but {content.why}", measured.simulated)
        return Standing("pass", measured.summary, measured.simulated)

    @property
    def verdict(self) -> str:
        """pass, fail or open, whatever image and plan are asked for now."""
        return self.standing().verdict
