"""Short sentences that change the wiring, previewed before they are done.

U1.PD6 - R8 330 - D2 red - GND      a chain; parts that do not exist yet are added
U1.SDA, U3.SDA = SDA                several pins on one net
U5.ADR to 3V3                       one pin to a net
R8 = 330 / R8 = 1k on small         a value, for all boards or on one variant
K1 relay_12v                        a new part of any kind, by its name or its words, also inside a chain
add U7 humidity_sensor in SOIC-8    any kind; also: only VARIANT, block NAME, note "TEXT"
decouple U1                         what its supply pins want and do not have
repeat Lamp x12 on U4.Q0..Q11       a block or parts, once for each pin
copy R1, D1 / block R1, D1 as Lamp / fit U5 only Full
leave U3.P4, U3.P5 open / disconnect U3.P4
rename OLD to NEW / delete R8, D1..D4 / set R9 to 330 / pull up SDA to 3V3 with 4k7
U3.P4 = new LAMP2                   a net whose name is near another's

References and nets match whatever their case; -> and dashes without spaces are dashes too.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from dataclasses import dataclass

from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Kind, suggest
from zesty_trace.core.catalogue.shelf import search
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits, group_edits
from zesty_trace.core.design.diff import describe_changes
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.core.review.supply import decoupling
from zesty_trace.core.schematic.blocks import propose_blocks
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.core.wording.words import expand, looks_like_a_slip, split_words
from zesty_trace.errors import InputError, own_words

NEW_PARTS = {
    "R": "resistor",
    "C": "ceramic_capacitor",
    "D": "led",
    "SW": "button",
    "F": "polyfuse",
    "L": "inductor",
    "TP": "test_point",
    "H": "mounting_hole",
}
TAIL_WORDS = ("in", "only", "block", "note")
_REF = re.compile(r"^([A-Za-z]{1,4})(\d{1,4})$")
MOST_COPIED = 200
MOST_LETTERS = 2000
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


def understand(sentence: str, wired: Wired) -> Spoken:
    """Return what `sentence` would do. InputError naming the word that is not understood."""
    design = wired.design
    if len(sentence) > MOST_LETTERS:
        raise InputError(
            f"The sentence has {len(sentence):,} letters", "sentence", f"Up to {MOST_LETTERS:,}: do it in steps"
        )
    with own_words("sentence"):
        after = say(sentence, wired)
    fresh = [n for n in after.nets if n not in design.nets and not n.startswith("N$")]
    named = [n for n in fresh if n in sentence]
    new = (f"new net{'s' if len(named) > 1 else ''} {', '.join(named)}",) if named else ()
    return Spoken(after, (*new, *describe_changes(design, after)))


class _Speaker:
    def __init__(self, wired: Wired, asks: bool = True) -> None:
        self.wired, self.asks = wired, asks

    @property
    def design(self) -> Design:
        """The design as spoken so far."""
        return self.wired.design

    @design.setter
    def design(self, design: Design) -> None:
        self.wired = self.wired.with_design(design)

    def ref(self, word: str) -> str:
        """Return a reference as the design writes it, whatever its case; itself if there is no such part."""
        if word in self.design.parts:
            return word
        return next((r for r in self.design.parts if r.lower() == word.lower()), word)

    def kind(self, ref: str) -> Kind:
        if ref not in self.design.parts:
            raise InputError(f"There is no part {ref}", ref, suggest(ref, self.design.parts))
        return self.wired.kind(ref)

    def net(self, word: str, new: bool = False) -> str:
        """Return a net as the design writes it, or a new one. InputError for a name that looks like a slip."""
        nets = self.design.nets
        if word in nets:
            return word
        alike = next((n for n in nets if n.lower() == word.lower()), None)
        if alike is not None:
            return alike
        if new:
            return word
        ref, dot, _ = word.partition(".")
        if dot and _REF.match(ref):
            raise InputError(f"There is no part {ref}", word, suggest(ref, self.design.parts))
        meant = next((n for n in nets if looks_like_a_slip(word, n)), None) if self.asks else None
        if meant:
            raise InputError(f"There is no net {word}", word, f"Did you mean {meant}? If not, say “new {word}”")
        return word

    def pin(self, word: str) -> Pin:
        ref, _, name = word.partition(".")
        ref = self.ref(ref)
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
        if first.lower() == "new" and value and " " not in value:
            name = self.net(value, new=True)
            return name, name
        first = self.ref(first)
        if "." in first and self.ref(first.split(".")[0]) in self.design.parts:
            pin = self.pin(first)
            return pin, pin
        if "." in first and first.split(".")[0] in self.design.parts:
            pin = self.pin(first)
            return pin, pin
        if first in self.design.parts or (_REF.match(first) and first not in self.design.nets):
            return self._through(first, value.strip())
        if value:
            raise InputError(f"“{first}” is no part, so it has no value", first, HELP)
        name = self.net(first)
        return name, name

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
        kind, value = self._kind_said(prefix, value)
        if kind is None:
            raise InputError(f"There is no part {ref}", ref, self._which(ref, prefix, value))
        if kind.value_needed and not value:
            raise InputError(f"{ref} needs a value", ref, f"Write {ref} 330")
        self._check(kind, value, ref)
        part = Part(ref=ref, kind=kind.id, value=value, package=kind.packages[0])
        self.design = edits.add_part(self.design, part)

    def _kind_said(self, prefix: str, text: str) -> tuple[Kind | None, str]:
        """Return the kind that the words after a new reference name, by its id or its words, and the value after it."""
        words, catalogue = text.split(), self.wired.catalogue
        for count in range(len(words), 0, -1):
            said = "_".join(words[:count]).lower()
            if said in catalogue.kinds:
                return catalogue.kinds[said], " ".join(words[count:])
        if prefix.upper() in NEW_PARTS:
            return catalogue.kind(NEW_PARTS[prefix.upper()]), text
        fitting = [k for k in search(catalogue, text) if k.prefix == prefix.upper()] if text else []
        return (fitting[0], "") if len(fitting) == 1 else (None, text)

    def _which(self, ref: str, prefix: str, text: str) -> str:
        """Return what to say: the kinds that a new part could be."""
        found = [k.id for k in search(self.wired.catalogue, text) if k.prefix == prefix.upper()]
        if text and found:
            return f"Say which: {', '.join(f'{ref} {k}' for k in found[:3])}"
        own = found or [k.id for k in self.wired.catalogue.kinds.values() if k.prefix == prefix.upper()]
        if own:
            return f"Say its kind too: {ref} {own[0]}, or add it from the shelf"
        return f"No kind starts with {prefix}. Add one from the shelf, or say: add {ref} humidity_sensor"

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
            self._ask_before_joining(a, b)
            self.design = edits.merge_nets(self.design, a, b)

    def _ask_before_joining(self, a: str, b: str) -> None:
        """Refuse to join two supplies, or a supply and ground, by a sentence that may be a slip."""
        wired = self.wired
        feeds = {*wired.rails, wired.ground}
        if a in feeds and b in feeds and wired.ground in (a, b):
            raise InputError(f"{a} and {b} joined are a short", f"{a} - {b}", "Put a part in between")
        if a in feeds and b in feeds:
            raise InputError(
                f"{a} and {b} are both supplies: joined, one feeds the other",
                f"{a} - {b}",
                f"If they are one net by two names, say “rename {b} to {a}”; else put a part in between",
            )

    def _to_net(self, pin: Pin, net: str) -> Design:
        """Connect a pin to a net; a free pin joins, a connected one brings its whole net along."""
        current = self.design.net_of().get(pin)
        if current and current != net and len(self.design.nets[current]) > 1 and net in self.design.nets:
            label = self.wired.label(pin)
            raise InputError(
                f"{label} is on {current} already", label, f"Say “{label} to {net}” to move it, or {current} - {net}"
            )
        return edits.connect(self.design, pin, net)

    def several(self, pins: str, net: str) -> Design:
        """Put pins on one net."""
        net = self.net(net.removeprefix("new "), new=net.startswith("new "))
        for word in expand(pins):
            self.design = edits.connect(self.design, self.pin(word), net)
        return self.design

    def value(self, ref: str, value: str) -> Design:
        """Set a value."""
        ref = self.ref(ref)
        self.kind(ref)
        return self._set_value(ref, value)

    def new(self, ref: str, words: str) -> Design:
        """Add a part of the kind that the words name."""
        if self.ref(ref) in self.design.parts:
            raise InputError(f"{ref} is there already", ref, f"To set its value say {ref} = {words}")
        self._make(ref, words)
        return self.design

    def value_on(self, ref: str, value: str, variant: str) -> Design:
        """Set a value for the boards of one variant."""
        ref = self.ref(ref)
        self._check(self.kind(ref), value, ref)
        return group_edits.set_value_on(self.design, ref, variant, value)

    def leave(self, pins: str) -> Design:
        """Mark pins as open on purpose."""
        return group_edits.leave_all_open(self.design, [self.pin(word) for word in expand(pins)])

    def add(self, text: str) -> Design:
        """Add a part of any kind, with value, package, variants, block and note."""
        words = split_words(text)
        if len(words) < 2:
            raise InputError("Say a reference and a kind", "add", "Write: add U7 humidity_sensor")
        ref, kind_id = words[0][0], words[1][0]
        if not _REF.match(ref):
            raise InputError(f"“{ref}” is not a reference", ref, "Write letters, then a number: R12")
        kind = self.wired.catalogue.kind(kind_id)
        said = _tails(words[2:])
        value = " ".join(said.get("", []))
        package = " ".join(said.get("in", [])) or kind.packages[0]
        if package not in (fitting := self.wired.catalogue.packages_for(kind)):
            raise InputError(f"a {kind_id} does not come in “{package}”", package, suggest(package, fitting))
        self._check(kind, value, ref)
        part = Part(
            ref=ref,
            kind=kind_id,
            value=value,
            package=package,
            variants=tuple(said.get("only", [])),
            block=" ".join(said.get("block", [])),
            notes=" ".join(said.get("note", [])),
        )
        design = edits.add_part(self.design, part)
        new = tuple(v for v in part.variants if v not in design.variants)
        self.design = replace(design, variants=(*design.variants, *new)) if new else design
        return self.design

    def decouple(self, refs: str) -> Design:
        """Add the bypass capacitors that supply pins want and do not have."""
        for ref in map(self.ref, expand(refs)):
            self.kind(ref)
            self.design = decouple(self.wired, ref)
        return self.design

    def repeat(self, what: str, count: str | None, pins: str | None, net: str | None) -> Design:
        """Repeat a block or parts; with pins, one for each, its line out on that pin."""
        refs = self._members(what)
        targets = [self.pin(word) for word in expand(pins)] if pins else []
        times = int(count) if count else len(targets)
        if not times:
            raise InputError("Say how often", "repeat", "Write: repeat Lamp x12, or: repeat Lamp on U4.Q0..Q11")
        if times * len(refs) > MOST_COPIED:
            raise InputError(
                f"That would be {times * len(refs)} parts", "repeat", f"Up to {MOST_COPIED} at once: do it in steps"
            )
        if targets and len(targets) != times:
            raise InputError(f"{times} times, but {len(targets)} pins", pins or "", "Make the two agree")
        if not targets:
            for _ in range(times - 1):
                self.design, _names = group_edits.copy_parts(self.design, refs)
            return self.design
        return self._repeat_on(refs, targets, net or self._line_out(refs, targets))

    def _line_out(self, refs: list[str], targets: list[Pin]) -> str:
        """Return the one signal that leaves a block: one that is on a target already, before others."""
        shared = [*self.wired.rails, self.wired.ground]
        taken = {self.design.net_of().get(t) for t in targets} - {None}
        own = group_edits.outside_nets(self.design, refs, shared)
        out = [n for n in own if n in taken] or own
        if not out:
            out = [n for n, pins in self.design.nets.items() if len(pins) == 1 and pins[0].ref in refs]
        if len(out) != 1:
            names = ", ".join(out) or "none"
            raise InputError(
                f"{len(out)} lines go out of it: {names}", "on", "Add which one: repeat Lamp x4 on U4.Q0..Q3 by NET"
            )
        return out[0]

    def _repeat_on(self, refs: list[str], targets: list[Pin], net: str) -> Design:
        if net not in self.design.nets:
            raise InputError(f"There is no net {net}", net, suggest(net, self.design.nets))
        own = [p for p in self.design.nets[net] if p.ref in refs]
        names = []
        for target in targets:
            there = self.design.net_of().get(target)
            if there is None:
                there = edits.fresh_net(self.design, self.wired.label(target).replace(".", "_"))
                self.design = edits.connect(self.design, target, there)
            names.append(there)
        for name in names[1:]:
            self.design, _fresh = group_edits.copy_parts(self.design, refs, {net: name})
        for pin in own:
            self.design = edits.connect(self.design, pin, names[0])
        return self.design

    def _members(self, what: str) -> list[str]:
        """Return the parts of a block, or the parts that are named."""
        name = re.sub(r"^block\s+|\s+block$", "", what.strip(), flags=re.I)
        blocks = propose_blocks(self.wired)
        own = [r for r, p in self.design.parts.items() if p.block.lower() == name.lower()]
        members = own or [r for r, b in blocks.items() if b.lower() == name.lower()]
        if members:
            return members
        refs = [self.ref(r) for r in expand(what)]
        for ref in refs:
            if ref not in self.design.parts:
                known = {*self.design.parts, *blocks.values()}
                raise InputError(f"{ref} is neither a part nor a block", ref, suggest(ref, known))
        return refs

    def copy(self, what: str) -> Design:
        """Copy parts or a block."""
        return group_edits.copy_parts(self.design, self._members(what))[0]

    def block(self, what: str, name: str) -> Design:
        """Put parts into a block."""
        return group_edits.set_block(self.design, self._members(what), name)

    def fit(self, what: str, variants: str) -> Design:
        """Limit parts to variants, or fit them always."""
        wanted = () if variants.lower() == "always" else tuple(expand(re.sub(r"^only\s+", "", variants, flags=re.I)))
        for variant in wanted:
            if variant not in self.design.variants:
                raise InputError(f"There is no variant {variant}", variant, suggest(variant, self.design.variants))
        for ref in self._members(what):
            self.design = edits.change_part(self.design, ref, variants=wanted)
        return self.design

    def disconnect(self, pin: str) -> Design:
        """Take a pin off its net."""
        return edits.disconnect(self.design, self.pin(pin))

    def move(self, pin: str, net: str) -> Design:
        """Move one pin to a net, or to the net of another pin."""
        if "." in net and self.ref(net.split(".", maxsplit=1)[0]) in self.design.parts:
            return edits.join_pins(edits.disconnect(self.design, self.pin(pin)), self.pin(pin), self.pin(net))
        return edits.connect(self.design, self.pin(pin), self.net(net.removeprefix("new "), new=net.startswith("new ")))

    def rename(self, old: str, new: str) -> Design:
        """Rename a net."""
        return edits.rename_net(self.design, self.net(old), new)

    def delete(self, refs: str) -> Design:
        """Remove parts."""
        for ref in map(self.ref, expand(refs)):
            self.kind(ref)
            self.design = edits.remove_part(self.design, ref)
        return self.design

    def pull(self, way: str, what: str, rail: str | None, value: str | None) -> Design:
        """Tie a net or a pin up to a supply, or down to ground, through a resistor."""
        if "." in what and self.ref(what.split(".", maxsplit=1)[0]) in self.design.parts:
            pin = self.pin(what)
            net = self.design.net_of().get(pin)
            if net is None:
                net = edits.fresh_net(self.design, self.wired.label(pin).replace(".", "_"))
                self.design = edits.connect(self.design, pin, net)
            home = self.wired.supply_of(pin.ref)
        else:
            net = self.net(what)
            feeds = [self.wired.supply_of(p.ref) for p in self.wired.on(net)]
            home = next((f for f in feeds if f), None)
        to = self.net(rail) if rail else self.wired.ground if way.lower() == "down" else home
        if not to or net not in self.design.nets:
            raise InputError(f"To which supply is {what} to be pulled?", what, f"Say: pull up {what} to 3V3")
        ref = edits.fresh_ref(self.design, "R")
        self._make(ref, value or "10k")
        self.design = edits.connect(self.design, Pin(ref, "1"), to)
        self.design = edits.connect(self.design, Pin(ref, "2"), net)
        return self.design

    def join(self, first: str, second: str) -> Design:
        """Connect two things."""
        return self.chain(f"{first} - {second}")


def _tails(words: list[tuple[str, bool]]) -> dict[str, list[str]]:
    """Return the words after each keyword; the words before the first keyword under ""."""
    found: dict[str, list[str]] = {"": []}
    key = ""
    for word, quoted in words:
        if not quoted and word in TAIL_WORDS:
            key = word
            found[key] = []
        else:
            found[key].append(word)
    return found


def decouple(wired: Wired, ref: str) -> Design:
    """Return the design with the capacitors that a part's supply pins want and do not have."""
    design = wired.design
    for finding in decoupling(wired):
        if finding.refs == (ref,) and finding.mend:
            design = finding.mend.apply(design)
    return design


_PATTERNS: list[tuple[re.Pattern[str], Callable[..., Design]]] = [
    (re.compile(r"^add\s+(.+)$", re.I), _Speaker.add),
    (re.compile(r"^rename (\S+) to (\S+)$", re.I), _Speaker.rename),
    (re.compile(r"^(?:delete|remove) (.+)$", re.I), _Speaker.delete),
    (re.compile(r"^connect (.+?) (?:to|and|with) (.+)$", re.I), _Speaker.join),
    (re.compile(r"^pull (up|down) (\S+)(?: to (\S+))?(?: (?:with|by) (.+))?$", re.I), _Speaker.pull),
    (re.compile(r"^set ([A-Za-z]{1,4}\d{1,4}) to (.+)$", re.I), _Speaker.value),
    (re.compile(r"^decouple (.+)$", re.I), _Speaker.decouple),
    (re.compile(r"^repeat (.+?)(?:\s+x\s*(\d{1,3}))?(?:\s+on (.+?))?(?:\s+by (\S+))?$", re.I), _Speaker.repeat),
    (re.compile(r"^copy (.+)$", re.I), _Speaker.copy),
    (re.compile(r"^block (.+) as (.+)$", re.I), _Speaker.block),
    (re.compile(r"^fit (.+?) (always|only .+)$", re.I), _Speaker.fit),
    (re.compile(r"^disconnect (\S+\.\S+)$", re.I), _Speaker.disconnect),
    (re.compile(r"^leave (.+) open$", re.I), _Speaker.leave),
    (re.compile(r"^(\S+\.\S+) to ((?:new )?\S+)$", re.I), _Speaker.move),
    (re.compile(r"^(\S+\.[^=]+?)\s*=\s*((?:new )?\S+)$"), _Speaker.several),
    (re.compile(r"^([A-Za-z]{1,4}\d{1,4})\s*=\s*(.+?) on (\S+)$"), _Speaker.value_on),
    (re.compile(r"^([A-Za-z]{1,4}\d{1,4})\s*=\s*(.+)$"), _Speaker.value),
    (re.compile(r"^(.*\s-\s.*|.*\s-|-\s.*)$"), _Speaker.chain),
    (re.compile(r"^([A-Za-z]{1,4}\d{1,4})\s+(\w.*)$"), _Speaker.new),
]


_ARROW = re.compile(r'("(?:[^"\\]|\\.)*")|\s*(?:->|=>|→|—|–)\s*')


def _with_dashes(text: str, wired: Wired) -> str:
    """Return a sentence with each dash between two words set apart; one inside the name of a net or a pin stays."""
    words = []
    for word in text.split():
        known = word in wired.design.nets or ("." in word and word.endswith(("-", "+")))
        words.append(word if known else re.sub(r"(?<=\w)-(?=[A-Za-z])", " - ", word))
    return " ".join(words)


def say(sentence: str, wired: Wired, asks: bool = True) -> Design:
    """Return the design after one sentence. InputError naming the word that is not understood.

    With `asks`, a net whose name looks like a slip of another's is asked about.
    """
    text = " ".join(_ARROW.sub(lambda found: found.group(1) or " - ", sentence).split())
    if not text:
        raise InputError("Nothing said yet", "", HELP)
    for said in dict.fromkeys((text, _with_dashes(text, wired))):
        for pattern, act in _PATTERNS:
            if match := pattern.match(said):
                return act(_Speaker(wired, asks), *match.groups())
    raise InputError(f"“{text}” is not understood", text.split()[0], HELP)
