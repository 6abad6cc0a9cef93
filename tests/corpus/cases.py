"""Reads the corpus: each file is a prototype, what is right to say of it, and its mistakes in the sheet's own words."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from datetime import date
from functools import cache
from pathlib import Path

from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.review.mending import prove
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.core.wording.sentences import say
from zesty_trace.journey.demos import demo_base, demo_tables

HERE = Path(__file__).parent
TODAY = date(2026, 3, 2)


@dataclass(frozen=True)
class Mistake:
    """What was said to make it, the rule that must find it, and whether it is known to be missed, with the reason."""

    prototype: str
    say: tuple[str, ...]
    finds: str
    missed: str = ""

    def __str__(self) -> str:
        return f"{self.prototype}: {'; '.join(self.say)}"


@dataclass(frozen=True)
class Prototype:
    """A prototype with its mistakes. `known` are rules that speak of it faultless, and are right to."""

    name: str
    demo: str
    parts: str
    nets: str
    known: frozenset[str]
    mistakes: tuple[Mistake, ...]


def prototypes() -> list[Prototype]:
    """Return the corpus."""
    found = []
    for path in sorted(HERE.glob("*.toml")):
        raw = tomllib.loads(path.read_text("utf-8"))
        for circuit in raw.get("circuits", (raw,)):
            name = circuit.get("name", path.stem)
            mistakes = tuple(
                Mistake(name, tuple(m["say"]), m["finds"], m.get("missed", "")) for m in circuit["mistakes"]
            )
            parts, nets = circuit.get("parts", ""), circuit.get("nets", "")
            if circuit is not raw:
                parts, nets = f"{raw['base']}\n{parts}", f"{raw['nets']}\n{nets}"
            known = frozenset(circuit.get("known", ()))
            found.append(Prototype(name, circuit.get("demo", ""), parts, nets, known, mistakes))
    return found


@cache
def faultless(prototype: Prototype) -> Wired:
    """Return a prototype as it is meant: from its own lines, or a demo with every mend that brings nothing else."""
    if not prototype.demo:
        return Wired(_read(prototype), shipped())
    demo = prototype.demo
    wired = Wired(import_prototype(*demo_tables(demo), shipped(), demo_base(TODAY, demo)), shipped())
    tried: set[str] = set()
    while True:
        left = [f for f in review(wired) if f.mend and not f.mend.intends and f.identity not in tried]
        if not left:
            return wired
        tried.add(left[0].identity)
        proof = prove(wired, left[0])
        wired = wired.with_design(proof.design) if proof.good else wired


def _read(prototype: Prototype) -> Design:
    """Return the design of `ref kind value` lines and `net = pins` lines; pins that no net names are left open."""
    remarks = [line for line in prototype.parts.splitlines() if line.startswith("#")]
    rows, wires, used = ["ref,kind,value,notes"], ["net,ref,pin"], set()
    kinds: dict[str, str] = {}
    for line in prototype.parts.strip().splitlines():
        if not line.strip() or line.startswith("#"):
            continue
        said, _, note = line.partition(" | ")
        ref, kind, *value = said.split()
        kinds[ref] = kind
        rows.append(f"{ref},{kind},{' '.join(value)},{note}")
    for line in prototype.nets.strip().splitlines():
        net, _, pins = line.partition("=")
        for word in pins.split():
            ref, _, pin = word.partition(".")
            spec = shipped().kinds[kinds[ref]].pin(pin)
            used.add((ref, spec.number if spec else pin))
            wires.append(f"{net.strip()},{ref},{spec.number if spec else pin}")
    for ref, kind in kinds.items():
        wires += [f"NC,{ref},{p.number}" for p in shipped().kinds[kind].pins if (ref, p.number) not in used]
    return import_prototype("\n".join([*remarks, *rows]), "\n".join(wires), shipped())


def broken(prototype: Prototype, mistake: Mistake) -> Wired:
    """Return the faultless prototype with a mistake in it."""
    wired = faultless(prototype)
    for sentence in mistake.say:
        design: Design = say(sentence, wired, asks=False)
        wired = wired.with_design(design)
    return wired


def alarms(prototype: Prototype) -> list[Finding]:
    """Return what the review says of the faultless prototype that it should not."""
    found = review(faultless(prototype))
    return [f for f in found if f.severity is not Severity.NOTE and f.rule not in prototype.known]
