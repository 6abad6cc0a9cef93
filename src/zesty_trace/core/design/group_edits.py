"""Edits of several parts at once: copies, new numbers, blocks, options and variants, pages of the sheet."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from zesty_trace.core.design.edits import change_part, fresh_net, fresh_ref, leave_open
from zesty_trace.core.design.model import Design, Option, Page, Pin
from zesty_trace.core.design.references import forget, rename
from zesty_trace.errors import EditError


def copy_parts(
    design: Design, refs: Iterable[str], attach: Mapping[str, str] | None = None
) -> tuple[Design, dict[str, str]]:
    """Copy parts with the nets between them; return the design and old reference -> new.

    A net that lies wholly among the parts gets a fresh name in the copy. A net that also goes elsewhere is shared,
    unless `attach` gives the net that stands in its place. EditError for a part that does not exist.
    """
    chosen = list(dict.fromkeys(refs))
    attach = attach or {}
    fresh: dict[str, str] = {}
    parts = dict(design.parts)
    for ref in chosen:
        if ref not in design.parts:
            raise EditError(f"There is no part {ref}", ref, "Check the reference")
        prefix = ref.rstrip("0123456789")
        name = fresh_ref(replace(design, parts=parts), prefix)
        fresh[ref] = name
        parts[name] = replace(design.parts[ref], ref=name)
    inside = set(chosen)
    grown = replace(design, parts=parts)
    nets = dict(design.nets)
    for net, pins in design.nets.items():
        own = [Pin(fresh[p.ref], p.number) for p in pins if p.ref in inside]
        if not own:
            continue
        private = len(own) == len(pins) and net not in attach
        target = fresh_net(replace(grown, nets=nets), f"{net}_2") if private else attach.get(net, net)
        nets[target] = tuple(sorted({*nets.get(target, ()), *own}))
    free = tuple(
        sorted({*design.not_connected, *(Pin(fresh[p.ref], p.number) for p in design.not_connected if p.ref in inside)})
    )
    return replace(grown, nets=nets, not_connected=free), fresh


def outside_nets(design: Design, refs: Iterable[str], shared: Iterable[str] = ()) -> list[str]:
    """Return the nets, `shared` left out, that join these parts with others, in the design's order."""
    inside, left_out = set(refs), set(shared)
    return [
        net
        for net, pins in design.nets.items()
        if net not in left_out and any(p.ref in inside for p in pins) and any(p.ref not in inside for p in pins)
    ]


def rename_refs(design: Design, names: Mapping[str, str]) -> Design:
    """Give parts other references, all at once. EditError if two parts would end up with one."""
    wanted = [names.get(r, r) for r in design.parts]
    twice = next((r for r in wanted if wanted.count(r) > 1), None)
    if twice:
        raise EditError(f"Two parts would be called {twice}", twice, "Choose another reference")
    return rename(design, "part", names)


def renumber(design: Design, order: Iterable[str]) -> Design:
    """Number the parts anew, each letter from 1 on, in this order of references; parts that it leaves out come last."""
    counts: dict[str, int] = {}
    names: dict[str, str] = {}
    for ref in dict.fromkeys([*(r for r in order if r in design.parts), *design.parts]):
        prefix = ref.rstrip("0123456789")
        counts[prefix] = counts.get(prefix, 0) + 1
        names[ref] = f"{prefix}{counts[prefix]}"
    return rename_refs(design, {a: b for a, b in names.items() if a != b})


def set_block(design: Design, refs: Iterable[str], block: str) -> Design:
    """Put parts into a block of this name; "" gives them back to the proposal."""
    for ref in refs:
        design = change_part(design, ref, block=block.strip())
    return design


def remove_parts(design: Design, refs: Iterable[str]) -> Design:
    """Take several parts out."""
    chosen = list(refs)
    for ref in chosen:
        if ref not in design.parts:
            raise EditError(f"There is no part {ref}", ref, "Check the reference")
    return forget(design, "part", chosen)


def leave_all_open(design: Design, pins: Iterable[Pin]) -> Design:
    """Mark several pins as open on purpose."""
    for pin in pins:
        design = leave_open(design, pin)
    return design


# Variants and options -------------------------------------------------------------------------------------------------


def add_variant(design: Design, name: str) -> Design:
    """Add a variant; parts that are limited to other variants are not on its boards."""
    name = name.strip()
    if not re.match(r"^[A-Za-z0-9_\-]{1,24}$", name):
        raise EditError(f"“{name}” cannot name a variant", name, "Use letters, digits, _ and -, up to 24 of them")
    if name in design.variants:
        raise EditError(f"{name} is there already", name, "Choose another name")
    return replace(design, variants=(*design.variants, name))


def drop_variant(design: Design, name: str) -> Design:
    """Take a variant out.

    Parts that were on its boards only are then on none of the limited ones, so they are kept for all.
    """
    return forget(design, "variant", [name])


def fit(design: Design, refs: Iterable[str], variant: str, on: bool) -> Design:
    """Fit parts on the boards of a variant, or not."""
    if variant not in design.variants:
        raise EditError(f"There is no variant {variant}", variant, f"Known: {', '.join(design.variants) or 'none'}")
    for ref in refs:
        current = set(design.parts[ref].variants or design.variants)
        wanted = current | {variant} if on else current - {variant}
        if not wanted:
            raise EditError(f"{ref} would be on no board at all", ref, "Delete it, or leave it on one variant")
        everywhere = wanted == set(design.variants)
        design = change_part(
            design, ref, variants=() if everywhere else tuple(v for v in design.variants if v in wanted)
        )
    return design


def set_value_on(design: Design, ref: str, variant: str, value: str) -> Design:
    """Give a part another value on one variant's boards; the value for all, or none, takes it back."""
    if variant not in design.variants:
        raise EditError(f"There is no variant {variant}", variant, f"Known: {', '.join(design.variants) or 'none'}")
    part = design.parts[ref]
    values = {v: t for v, t in part.values.items() if v != variant}
    if value and value != part.value:
        values[variant] = value
    return change_part(design, ref, values=values)


def put_option(design: Design, option: Option) -> Design:
    """Add an option, or replace the one of its name. EditError for parts or options that it names and do not exist."""
    for ref in option.refs:
        if ref not in design.parts:
            raise EditError(f"There is no part {ref}", option.name, "Check the references")
    if not option.name.strip() or not option.refs:
        raise EditError("An option has a name and one part or more", option.name or "option", "Pick its parts first")
    names = {o.name for o in design.options} | {option.name}
    for need in option.needs:
        if need not in names or need == option.name:
            raise EditError(f"There is no other option {need}", option.name, f"Known: {', '.join(sorted(names))}")
    others = tuple(o for o in design.options if o.name != option.name)
    return replace(design, options=(*others, option))


def drop_option(design: Design, name: str) -> Design:
    """Forget an option; its parts stay."""
    return forget(design, "option", [name])


def fit_option(design: Design, name: str, variant: str, on: bool) -> Design:
    """Fit an option on a variant with all that it needs, or take it off with all that need it."""
    by_name = {o.name: o for o in design.options}
    chosen, waiting = [], [name]
    while waiting:
        option = by_name[waiting.pop()]
        if option.name in chosen:
            continue
        chosen.append(option.name)
        waiting += (
            [n for n in option.needs if n in by_name]
            if on
            else [o.name for o in design.options if option.name in o.needs]
        )
    for each in chosen:
        design = fit(design, [r for r in by_name[each].refs if r in design.parts], variant, on)
    return design


def switches(design: Design, variant: str) -> list[str]:
    """Return the firmware switches of the options that a variant fits whole."""
    return [
        o.switch
        for o in design.options
        if o.switch and all(r in design.parts and design.parts[r].fitted(variant) for r in o.refs)
    ]


def set_pages(design: Design, pages: Iterable[Page]) -> Design:
    """Split the sheet into pages; no page means that all is on one."""
    return replace(design, pages=tuple(pages))
