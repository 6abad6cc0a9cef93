"""Rules on what is fitted: options that are whole, inputs that keep a level in each variant, versions written down."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.findings import Finding, Severity, Subject, of_net, of_part, rule
from zesty_trace.core.review.drive import COMMON
from zesty_trace.core.review.register import static

OPTION_FLOATS = rule(
    "option floats",
    Severity.FIX,
    "A board without the option then behaves at random, on some days only.",
    COMMON,
    limits="a level for each input in each variant",
)


OPTION = rule(
    "option",
    Severity.FIX,
    "An option is a set of parts and a firmware switch; half of it is a board that nobody has tried.",
    COMMON,
    limits="what an option needs is fitted with it",
)


EXACT_VERSION = rule(
    "exact version",
    Severity.NOTE,
    "Boards, pinouts and images differ from version to version under the same name.",
    COMMON,
    limits="a note or a value that says which",
)


@static
def option_leaves_floating(wired: Wired) -> Iterator[Finding]:
    """Yield nets that lose what gives their inputs a level when a variant leaves parts out."""
    for variant in wired.design.variants:
        missing = {r for r, p in wired.design.parts.items() if not p.fitted(variant)}
        for net, pins in wired.design.nets.items():
            gone = [p for p in pins if p.ref in missing]
            left = [p for p in pins if p.ref not in missing]
            if not gone or net in wired.rails or net == wired.ground:
                continue
            inputs = [p for p in left if wired.spec(p).role == "input"]
            held = any(
                wired.spec(p).role not in ("input", "no_connect") and not wired.kind(p.ref).is_a(m.Capacitor)
                for p in left
            )
            if inputs and not held:
                names = ", ".join(wired.label(p) for p in inputs)
                yield OPTION_FLOATS.found(
                    of_net(net, variant),
                    f"On {variant} boards nothing gives {net} a level",
                    f"{', '.join(sorted({p.ref for p in gone}))} is left out there, and {names} only listen. Add a "
                    "pull resistor that is always fitted.",
                    refs=tuple(p.ref for p in inputs),
                )


@static
def exact_version(wired: Wired) -> Iterator[Finding]:
    """Yield parts that come in versions that differ, and no version is written down."""
    for ref, part in wired.design.parts.items():
        if wired.kind(ref).facts.exact and not part.notes and not part.value:
            yield EXACT_VERSION.found(
                of_part(ref),
                f"Which version of {ref} worked is not written down",
                "Type what is printed on it into its notes before it is ordered.",
            )


@static
def option_broken(wired: Wired) -> Iterator[Finding]:
    """Yield options that a variant fits in part, or without what they need."""
    by_name = {o.name: o for o in wired.design.options}
    for option in wired.design.options:
        for variant in wired.design.variants or ("",):
            on = [r for r in option.refs if r in wired.design.parts and wired.design.parts[r].fitted(variant)]
            if on and len(on) < len(option.refs):
                off = [r for r in option.refs if r not in on]
                yield _option(option.name, variant, f"is fitted without {', '.join(off)}", tuple(off))
            for need in option.needs if on else ():
                needed = by_name.get(need)
                if needed is None or not all(
                    r in wired.design.parts and wired.design.parts[r].fitted(variant) for r in needed.refs
                ):
                    yield _option(option.name, variant, f"needs {need}, which is not fitted", tuple(on))


def _option(name: str, variant: str, what: str, refs: tuple[str, ...]) -> Finding:
    return OPTION.found(
        Subject(which=f"{name} {variant} {what}"),
        f"{name} {what}" + (f" on {variant} boards" if variant else ""),
        "Fit the whole option or none of it (Options, in Schematic).",
        refs=refs,
    )
