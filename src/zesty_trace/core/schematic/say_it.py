"""Short sentences that change the wiring, previewed before they are done.

U1.PD6 - R8 330 - D2 red - GND      a chain; parts that do not exist yet are added
U1.SDA, U3.SDA = SDA                several pins on one net
U5.ADR to 3V3                       one pin to a net
R8 = 330                            a value
leave U3.P4 open / disconnect U3.P4
rename OLD to NEW / delete R8
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from dataclasses import dataclass

from zesty_trace.core.catalogue.kinds import Catalogue, Kind, suggest
from zesty_trace.core.circuit.topology import kind_of, pin_label
from zesty_trace.core.design import edits
from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.schematic.wiring_csv import value_problem
from zesty_trace.errors import InputError

NEW_PARTS = {
    "R": "resistor", "C": "ceramic_capacitor", "D": "led", "SW": "button", "F": "polyfuse", "L": "inductor",
    "TP": "test_point", "H": "mounting_hole",
}  # fmt: skip
_REF = re.compile(r"^([A-Za-z]{1,4})(\d{1,4})$")
HELP = "Try: U3.P4 - R20 330 - D7 red - GND, or U5.ADR to 3V3"


@dataclass(frozen=True)
class Spoken:
    """A sentence understood: the design after it, and what changes, in words."""

    design: Design
    changes: tuple[str, ...]

    @property
    def preview(self) -> str:
        """One line for beside the input."""
        return "; ".join(self.changes) if self.changes else "changes nothing"


def understand(sentence: str, design: Design, catalogue: Catalogue) -> Spoken:
    """Return what `sentence` would do. InputError naming the word that is not understood."""
    text = " ".join(sentence.replace("–", "-").split())
    if not text:
        raise InputError("Nothing said yet", "", HELP)
    speaker = _Speaker(design, catalogue)
    for pattern, act in _PATTERNS:
        if match := pattern.match(text):
            after = act(speaker, *match.groups())
            return Spoken(after, tuple(describe_changes(design, after)))
    raise InputError(f"“{text}” is not understood", text.split()[0], HELP)


class _Speaker:
    def __init__(self, design: Design, catalogue: Catalogue) -> None:
        self.design, self.catalogue = design, catalogue

    def kind(self, ref: str) -> Kind:
        if ref not in self.design.parts:
            raise InputError(f"There is no part {ref}", ref, suggest(ref, self.design.parts))
        return kind_of(self.design, self.catalogue, ref)

    def pin(self, word: str) -> Pin:
        ref, _, name = word.partition(".")
        spec = self.kind(ref).pin(name)
        if spec is None:
            names = [p.name for p in self.kind(ref).pins]
            raise InputError(f"{ref} has no pin “{name}”", word, suggest(name, names))
        return Pin(ref, spec.number)

    def chain(self, text: str) -> Design:
        """Join the words of a chain one after the other."""
        words = [w.strip() for w in re.split(r"\s+-\s+|\s+-$|^-\s+", text)]
        if "" in words or len(words) < 2:
            raise InputError("A chain needs something on both sides of each dash", "-", HELP)
        links = [self._link(word) for word in words]
        for (_, out), (into, _) in itertools.pairwise(links):
            self._join(out, into)
        return self.design

    def _link(self, word: str) -> tuple[Pin | str, Pin | str]:
        """Return where a chain enters and leaves a word: the same pin or net, or the two ends of a part."""
        first, _, value = word.partition(" ")
        if "." in first and first.split(".")[0] in self.design.parts:
            pin = self.pin(first)
            return pin, pin
        if first in self.design.parts or (_REF.match(first) and first not in self.design.nets):
            return self._through(first, value.strip())
        if value:
            raise InputError(f"“{first}” is no part, so it has no value", first, HELP)
        return first, first

    def _through(self, ref: str, value: str) -> tuple[Pin, Pin]:
        if ref not in self.design.parts:
            self._make(ref, value)
        elif value:
            self._set_value(ref, value)
        kind = self.kind(ref)
        if len(kind.pins) == 1:
            return Pin(ref, kind.pins[0].number), Pin(ref, kind.pins[0].number)
        if len(kind.pins) != 2:
            raise InputError(f"{ref} has {len(kind.pins)} pins; say which", ref, f"Write {ref}.{kind.pins[0].name}")
        ends = [Pin(ref, p.number) for p in kind.pins]
        if kind.pin("A") and kind.pin("K"):
            ends = [Pin(ref, kind.pin_named("A").number), Pin(ref, kind.pin_named("K").number)]
        return ends[0], ends[1]

    def _make(self, ref: str, value: str) -> None:
        match = _REF.match(ref)
        prefix = match.group(1) if match else ref
        if prefix not in NEW_PARTS:
            raise InputError(f"There is no part {ref}", ref, f"New parts may start with {', '.join(NEW_PARTS)}")
        kind = self.catalogue.kind(NEW_PARTS[prefix])
        if kind.unit and not value:
            raise InputError(f"{ref} needs a value", ref, f"Write {ref} 330")
        self._check(kind, value, ref)
        part = Part(ref=ref, kind=kind.id, value=value, package=kind.packages[0])
        self.design = edits.add_part(self.design, part)

    def _check(self, kind: Kind, value: str, ref: str) -> None:
        if problem := value_problem(kind, value):
            raise InputError(problem[0], value or ref, problem[1])

    def _set_value(self, ref: str, value: str) -> Design:
        self._check(self.kind(ref), value, ref)
        self.design = edits.change_part(self.design, ref, value=value)
        return self.design

    def _join(self, a: Pin | str, b: Pin | str) -> None:
        if isinstance(a, Pin) and isinstance(b, Pin):
            self.design = edits.join_pins(self.design, a, b)
        elif isinstance(a, Pin):
            self.design = self._to_net(a, str(b))
        elif isinstance(b, Pin):
            self.design = self._to_net(b, a)
        elif a != b:
            for net in (a, b):
                if net not in self.design.nets:
                    raise InputError(f"There is no net {net}", net, suggest(net, self.design.nets))
            self.design = edits.merge_nets(self.design, a, b)

    def _to_net(self, pin: Pin, net: str) -> Design:
        """Connect a pin to a net; a free pin joins, a connected one brings its whole net along."""
        current = self.design.net_of().get(pin)
        if current and current != net and len(self.design.nets[current]) > 1 and net in self.design.nets:
            label = pin_label(self.design, self.catalogue, pin)
            raise InputError(
                f"{label} is on {current} already", label, f"Say “{label} to {net}” to move it, or {current} - {net}"
            )
        return edits.connect(self.design, pin, net)

    def several(self, pins: str, net: str) -> Design:
        """Put pins on one net."""
        for word in (w.strip() for w in pins.split(",")):
            self.design = edits.connect(self.design, self.pin(word), net)
        return self.design

    def move(self, pin: str, net: str) -> Design:
        """Move one pin to a net, or to the net of another pin."""
        if "." in net and net.split(".", maxsplit=1)[0] in self.design.parts:
            return edits.join_pins(edits.disconnect(self.design, self.pin(pin)), self.pin(pin), self.pin(net))
        return edits.connect(self.design, self.pin(pin), net)

    def value(self, ref: str, value: str) -> Design:
        """Set a value."""
        self.kind(ref)
        return self._set_value(ref, value)

    def leave(self, pin: str) -> Design:
        """Mark a pin as open on purpose."""
        return edits.leave_open(self.design, self.pin(pin))

    def disconnect(self, pin: str) -> Design:
        """Take a pin off its net."""
        return edits.disconnect(self.design, self.pin(pin))

    def rename(self, old: str, new: str) -> Design:
        """Rename a net."""
        return edits.rename_net(self.design, old, new)

    def delete(self, refs: str) -> Design:
        """Remove parts."""
        for ref in re.split(r"[,\s]+", refs):
            self.kind(ref)
            self.design = edits.remove_part(self.design, ref)
        return self.design


_PATTERNS: list[tuple[re.Pattern[str], Callable[..., Design]]] = [
    (re.compile(r"^rename (\S+) to (\S+)$", re.I), _Speaker.rename),
    (re.compile(r"^delete (.+)$", re.I), _Speaker.delete),
    (re.compile(r"^disconnect (\S+\.\S+)$", re.I), _Speaker.disconnect),
    (re.compile(r"^leave (\S+\.\S+) open$", re.I), _Speaker.leave),
    (re.compile(r"^(\S+\.\S+) to (\S+)$", re.I), _Speaker.move),
    (re.compile(r"^(\S+\.[^=]+?)\s*=\s*(\S+)$"), _Speaker.several),
    (re.compile(r"^([A-Za-z]{1,4}\d{1,4})\s*=\s*(.+)$"), _Speaker.value),
    (re.compile(r"^(.*\s-\s.*|.*\s-|-\s.*)$"), _Speaker.chain),
]


def completions(text: str, design: Design, catalogue: Catalogue) -> list[str]:
    """Return words that could finish the last word of `text`: references, nets, or pins after a dot."""
    word = re.split(r"[\s,=]", text)[-1]
    ref, dot, start = word.partition(".")
    if dot and ref in design.parts:
        names = [p.name for p in kind_of(design, catalogue, ref).pins]
        return [f"{ref}.{n}" for n in names if n.lower().startswith(start.lower())]
    return [w for w in (*design.parts, *sorted(design.nets)) if word and w.lower().startswith(word.lower())][:12]
