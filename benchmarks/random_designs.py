"""Made-up designs for the drawing: parts of every kind, wired at random but as boards are wired.

Grounds are on ground, supply pins on one of the supplies, signals join two to five pins that are near each other in
the list, some chips share numbered groups of signals, rows of like resistors stand behind outputs, and some pins stay
open. A few are wired as nobody would: a part with both ends on one net, a resistor between two supplies.
"""

from __future__ import annotations

from random import Random

from zesty_trace.core.catalogue.kind import Kind
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin

GROUND = "GND"
SMALL_SHARE, SWITCH_SHARE, CONNECTOR_SHARE = 0.55, 0.08, 0.12
VALUES = {"R": ("330", "1k", "10k", "4k7", "100k"), "C": ("100n", "10u", "22p", "1u"), "D": ("",), "F": ("1", "500m")}
LEAST_GROUP, MOST_GROUP = 4, 15
NEAR = 9  # places in the list within which pins are joined
OPEN_SHARE, ODD_SHARE = 0.08, 0.02


def random_design(seed: int, catalogue: Catalogue) -> Design:
    """Return the design of a seed: 3 to 90 parts."""
    return _Draft(Random(seed), catalogue).make(seed)


class _Draft:
    def __init__(self, random: Random, catalogue: Catalogue) -> None:
        self.random, self.catalogue = random, catalogue
        kinds = [k for k in catalogue.kinds.values() if k.pins and k.prefix not in ("H", "MH", "TP")]
        self.small = [k for k in kinds if len(k.pins) == 2 and not k.connector]
        self.switches = [k for k in kinds if len(k.pins) == 3 and k.prefix == "Q"]
        self.connectors = [k for k in kinds if k.connector]
        self.chips = [k for k in kinds if len(k.pins) > 2 and not k.connector and k.prefix != "Q"]
        self.design = Design(name="made up")
        self.free: list[tuple[int, Pin]] = []
        self.number = 0

    def make(self, seed: int) -> Design:
        """Return the design."""
        random = self.random
        count = 3 + int(random.random() ** 1.5 * 88)
        supplies = [["3V3"], ["5V", "3V3"], ["12V", "5V", "3V3"], ["24V", "12V", "5V", "3V3"]][min(3, seed % 5)]
        nets: dict[str, list[Pin]] = {GROUND: [], **{s: [] for s in supplies}}
        refs: dict[str, Kind] = {}
        for _ in range(count):
            kind = self._kind()
            refs[self._add(kind)] = kind
        places = {ref: k for k, ref in enumerate(refs)}
        left: list[Pin] = []
        for ref, kind in refs.items():
            mine = random.choice(supplies)
            for spec in kind.pins:
                pin = Pin(ref, spec.number)
                if spec.role == "ground":
                    nets[GROUND].append(pin)
                elif spec.role in ("supply_in", "supply_out"):
                    nets[mine if spec.role == "supply_in" else random.choice(supplies)].append(pin)
                elif random.random() > OPEN_SHARE:
                    left.append(pin)
        self._groups(refs, nets, left)
        self._banks(refs, nets, left)
        self._signals(places, nets, left, supplies, set(refs) - {r for r, k in refs.items() if len(k.pins) != 2})
        for net, pins in nets.items():
            for pin in pins:
                self.design = edits.connect(self.design, pin, net)
        return self.design

    def _kind(self) -> Kind:
        at = self.random.random()
        pools = ((SMALL_SHARE, self.small), (SWITCH_SHARE, self.switches), (CONNECTOR_SHARE, self.connectors))
        for share, pool in pools:
            if at < share:
                return self.random.choice(pool)
            at -= share
        return self.random.choice(self.chips)

    def _add(self, kind: Kind) -> str:
        self.number += 1
        ref = f"{kind.prefix}{self.number}"
        value = self.random.choice(VALUES.get(kind.prefix, ("",)))
        self.design = edits.add_part(self.design, Part(ref=ref, kind=kind.id, value=value))
        return ref

    def _groups(self, refs: dict[str, Kind], nets: dict[str, list[Pin]], left: list[Pin]) -> None:
        """Join two or three chips by a numbered group."""
        random = self.random
        for name in ("A", "D", "ROW"):
            open_by = {r: [p for p in left if p.ref == r] for r, k in refs.items() if len(k.pins) > LEAST_GROUP}
            able = [r for r, pins in open_by.items() if len(pins) >= LEAST_GROUP]
            if len(able) < 2 or random.random() < 0.4:
                continue
            chosen = random.sample(able, min(len(able), random.choice((2, 2, 3))))
            size = min(MOST_GROUP, *(len(open_by[r]) for r in chosen))
            for ref in chosen:
                pins = open_by[ref][:size] if random.random() < 0.6 else random.sample(open_by[ref], size)
                for k, pin in enumerate(pins):
                    nets.setdefault(f"{name}{k}", []).append(pin)
                    left.remove(pin)

    def _banks(self, refs: dict[str, Kind], nets: dict[str, list[Pin]], left: list[Pin]) -> None:
        """Put like resistors behind the pins of a chip, some with a light to ground."""
        random = self.random
        able = [r for r in refs if sum(p.ref == r for p in left) >= LEAST_GROUP]
        if not able or random.random() < 0.5:
            return
        lights = random.random() < 0.5
        chip = random.choice(able)
        pins = [p for p in left if p.ref == chip][:8]
        for pin in pins:
            left.remove(pin)
        for k, pin in enumerate(pins):
            resistor = self._add(self.catalogue.kind("resistor"))
            self.design = edits.change_part(self.design, resistor, value="330")
            nets[f"OUT{k}"] = [pin, Pin(resistor, "1")]
            nets[f"LIT{k}"] = [Pin(resistor, "2")]
            if lights:
                led = self._add(self.catalogue.kind("led"))
                nets[f"LIT{k}"].append(Pin(led, "2"))
                nets[GROUND].append(Pin(led, "1"))
            elif left:
                nets[f"LIT{k}"].append(left.pop(random.randrange(len(left))))

    def _signals(
        self,
        places: dict[str, int],
        nets: dict[str, list[Pin]],
        left: list[Pin],
        supplies: list[str],
        two_ended: set[str],
    ) -> None:
        random = self.random
        number = 0
        while left:
            pin = left.pop(random.randrange(len(left)))
            if pin.ref in two_ended and random.random() < 0.45:
                nets[random.choice([GROUND, GROUND, *supplies])].append(pin)
                continue
            near = [
                p
                for p in left
                if abs(places.get(p.ref, 0) - places.get(pin.ref, 0)) <= NEAR
                and (p.ref != pin.ref or random.random() < ODD_SHARE)
            ]
            joined = random.sample(near, min(len(near), random.choice((1, 1, 1, 2, 2, 3, 4))))
            for p in joined:
                left.remove(p)
            number += 1
            if joined:
                nets[f"{random.choice(('SIG', 'NET', 'SENSE_', 'N_', 'LINE'))}{number}"] = [pin, *joined]
