"""Finding a kind of part by words: "relay", "temperature", "5 V reg"; and how much of the board it takes."""

from __future__ import annotations

import difflib
import re
from functools import lru_cache

from zesty_trace.core.catalogue.kind import Kind
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import land_pattern

_WORD = re.compile(r"[a-z0-9µ+.]+")
_UNIT = re.compile(r"(\d+(?:\.\d+)?)\s+(v|a|ma|w|mhz|mm|pins?|ways?|bits?|k|m)\b")
_ALIKE = 0.8
# words that people say for what the titles call otherwise: common practice
SAID_FOR = {
    "mosfet": "field-effect transistor switch",
    "fet": "switch transistor",
    "transistor": "npn pnp switch",
    "cap": "capacitor",
    "mcu": "controller",
    "micro": "controller",
    "ldo": "regulator low drop",
    "battery": "cell",
    "speaker": "sounder",
    "buzzer": "sounder",
    "pot": "potentiometer",
    "trimmer": "potentiometer",
    "thermometer": "temperature",
    "lamp": "led light",
    "usb": "usb inlet",
    "screw": "terminal",
    "key": "button",
    "pushbutton": "button",
    "xtal": "crystal",
}


def _plain(text: str) -> str:
    return _UNIT.sub(r"\1\2", text.lower().replace("_", " ").replace(",", " ").replace("-", " "))


def _words_of(kind: Kind) -> frozenset[str]:
    return _words(kind.id, kind.title, kind.prefix, kind.packages, len(kind.pins), _volts(kind))


def _volts(kind: Kind) -> frozenset[str]:
    return frozenset(f"{v:g}v" for v in (kind.facts.supply_min_v, kind.facts.supply_max_v) if v)


@lru_cache(2048)
def _words(
    kind_id: str, title: str, prefix: str, packages: tuple[str, ...], count: int, volts: frozenset[str]
) -> frozenset[str]:
    pins = {f"{count}{word}" for word in ("pin", "pins", "way", "ways")}
    said = (kind_id, title, prefix, *packages)
    return frozenset(word for text in said for word in _WORD.findall(_plain(text))) | volts | pins


def search(catalogue: Catalogue, text: str, most: int = 60) -> list[Kind]:
    """Return the kinds that have every word of `text`, or its beginning; the nearest first, all for no word.

    Where nothing has them all, a word that is spelled nearly so counts.
    """
    wanted = _WORD.findall(_plain(text))
    kinds = list(catalogue.kinds.values())
    scored = [(score, k) for k in kinds if (score := _score(k, wanted, exact=True)) is not None]
    if not scored:
        scored = [(score, k) for k in kinds if (score := _score(k, wanted, exact=False)) is not None]
    return [k for _, k in sorted(scored, key=lambda s: (s[0], len(s[1].title), s[1].title))][:most]


def _score(kind: Kind, wanted: list[str], exact: bool) -> float | None:
    """Return how far a kind is from the words: 0 where each is one of its own; None where one is missing."""
    words, total = _words_of(kind), 0.0
    for word in wanted:
        if word in words:
            continue
        if any(w.startswith(word) for w in words):
            total += 1.0
        elif any(part in words for part in SAID_FOR.get(word, "").split()):
            total += 2.0
        elif not exact and difflib.get_close_matches(word, words, 1, _ALIKE):
            total += 3.0
        else:
            return None
    return total


def space_mm2(catalogue: Catalogue, package_id: str) -> float:
    """Return the area of a package's courtyard, mm²: what it takes of the board. KeyError-like for an unknown one."""
    return land_pattern(catalogue.package(package_id)).courtyard.area / 1e12
