"""Before an import: what is in the two tables, which words for kinds are not known, and what they may mean."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from difflib import SequenceMatcher

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.core.tables.rows import ImportFailed, Problem

_WORD = re.compile(r"[a-z]+|\d+")
ALIKE = {
    "cap": "capacitor",
    "caps": "capacitor",
    "res": "resistor",
    "pot": "potentiometer",
    "reg": "regulator",
    "ldo": "regulator",
    "fet": "mosfet",
    "mcu": "controller",
    "micro": "controller",
    "conn": "header",
    "electro": "electrolytic",
    "elco": "electrolytic",
    "ind": "inductor",
    "xtal": "crystal",
    "btn": "button",
}


@dataclass(frozen=True)
class Unknown:
    """A word of the kind column that names no kind: the references and lines that use it, the likeliest kinds first."""

    word: str
    refs: tuple[str, ...]
    guesses: tuple[str, ...]
    lines: tuple[int, ...] = ()


@dataclass(frozen=True)
class Preview:
    """What an import would give. `design` is None while something is in the way."""

    design: Design | None
    unknown: tuple[Unknown, ...]
    problems: tuple[Problem, ...]

    def say(self) -> str:
        """Return the state of the tables in one line."""
        if self.design is not None:
            return f"{len(self.design.parts)} parts and {len(self.design.nets)} nets, ready to import."
        said = []
        if self.unknown:
            said.append(f"{len(self.unknown)} unknown kind{'s' if len(self.unknown) > 1 else ''}: say what they are.")
        if self.problems:
            said.append(f"{len(self.problems)} more problem{'s' if len(self.problems) > 1 else ''} in the tables.")
        return " ".join(said)


def preview_import(
    parts_text: str,
    wiring_text: str,
    catalogue: Catalogue,
    base: Design | None = None,
    files: tuple[str, str] = ("parts.csv", "wiring.csv"),
    names: Mapping[str, str] | None = None,
) -> Preview:
    """Return what importing the two tables would give, with unknown kinds gathered. Never raises for their content."""
    names = dict(names or {})
    try:
        return Preview(import_prototype(parts_text, wiring_text, catalogue, base, files, names), (), ())
    except ImportFailed as failed:
        words: dict[str, list[int]] = {}
        rest: list[Problem] = []
        for problem in failed.problems:
            if problem.unknown_kind:
                words.setdefault(problem.unknown_kind, []).append(problem.line)
            else:
                rest.append(problem)
    refs = _refs_by_line(parts_text)
    unknown = []
    for word, lines in words.items():
        used = tuple(refs.get(line, "") for line in lines)
        unknown.append(Unknown(word, used, tuple(guess_kinds(word, used, catalogue)), tuple(lines)))
    return Preview(None, tuple(unknown), tuple(rest))


def _refs_by_line(text: str) -> dict[int, str]:
    found = {}
    for number, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        match = re.search(r"\b[A-Za-z]{1,4}\d{1,4}\b", line)
        if match:
            found[number] = match.group(0)
    return found


def guess_kinds(word: str, refs: Iterable[str], catalogue: Catalogue, most: int = 6) -> list[str]:
    """Return the kinds that a word and the letters of its references may mean, likeliest first."""
    words = {ALIKE.get(w, w) for w in _WORD.findall(word.lower())}
    letters = {re.sub(r"\d", "", r).upper() for r in refs}

    def score(kind_id: str) -> float:
        kind = catalogue.kinds[kind_id]
        known = {ALIKE.get(w, w) for w in _WORD.findall(f"{kind_id} {kind.title}".lower())}
        shared = sum(1.0 for w in words if w in known) / max(len(words), 1)
        near = SequenceMatcher(None, word.lower(), kind_id).ratio()
        return 2.0 * shared + near + (1.0 if kind.prefix in letters else 0.0) - 0.002 * len(kind.title)

    return sorted(catalogue.kinds, key=lambda k: (-score(k), k))[:most]
