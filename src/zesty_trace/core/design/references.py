"""The one place that knows where parts, pins, nets, variants, states, options and blocks are named.

`SITES` lists every field that names something; renaming, forgetting and pruning are driven by it, and every edit goes
through them. What does not change stays the same object.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from msgspec.structs import replace

from zesty_trace.core.design.model import Acceptance, Design, Pin

What = Literal["part", "pin", "net", "variant", "state", "option", "block"]


@dataclass(frozen=True)
class Site:
    """One field that names something.

    `path` is written `states[].high[]`: attributes, items of tuples, `{}` values and `{key}` keys of dicts. `gone` says
    what goes with the named thing: the "entry" of the innermost tuple or dict, the "owner" of the field, or nothing
    but the name itself ("clear"). `least` is how many entries the owner needs to stay. A `home` is where the thing
    itself lives; a name that may come `ahead` of its thing is not pruned.
    """

    path: str
    what: What
    gone: Literal["entry", "owner", "clear"] = "entry"
    least: int = 0
    home: bool = False
    ahead: bool = False


SITES: tuple[Site, ...] = (
    Site("parts{key}", "part", home=True),
    Site("parts{}.ref", "part", "owner", home=True),
    Site("parts{}.stands_on[]", "part"),
    Site("nets{}[]", "pin", least=1),
    Site("not_connected[]", "pin"),
    Site("sheet{key}", "part"),
    Site("board.placements{key}", "part"),
    Site("brief.template[].ref", "part", "owner", ahead=True),
    Site("states[].high[]", "pin"),
    Site("states[].flipped[]", "part"),
    Site("states[].asleep[]", "part"),
    Site("states[].unplugged[]", "part"),
    Site("states[].wipers[].ref", "part", "owner"),
    Site("measured[].ref", "part", "owner"),
    Site("options[].refs[]", "part", least=1),
    Site("accepted[].refs[]", "part", "owner"),
    Site("accepted[].pins[]", "pin", "owner"),
    Site("nets{key}", "net", home=True),
    Site("board.tracks[].net", "net", "owner"),
    Site("board.vias[].net", "net", "owner"),
    Site("board.pours[].net", "net", "owner"),
    Site("board.classes[].nets[]", "net"),
    Site("measured[].net", "net", "owner"),
    Site("accepted[].nets[]", "net", "owner"),
    Site("variants[]", "variant", home=True),
    Site("parts{}.variants[]", "variant"),
    Site("parts{}.values{key}", "variant"),
    Site("build.variant", "variant", "clear"),
    Site("build.batch{key}", "variant"),
    Site("images[].variant", "variant", "owner"),
    Site("states[].name", "state", "owner", home=True),
    Site("timeline[].state", "state", "owner"),
    Site("measured[].state", "state", "owner"),
    Site("options[].name", "option", "owner", home=True),
    Site("options[].needs[]", "option"),
    Site("parts{}.block", "block", "clear", ahead=True),
    Site("pages[].blocks[]", "block", ahead=True),
)


class _Gone:
    """What a name, an entry or an owner turns into when it goes."""


GONE = _Gone()
Act = Callable[[Any], Any]  # a name or a pin -> what stands there then, or GONE


def rename(design: Design, what: What, names: Mapping[str, str]) -> Design:
    """Return the design with things of one sort called otherwise wherever they are named, all at once."""
    moved = {a: b for a, b in names.items() if a != b and a}
    if not moved:
        return design
    if what == "part":
        design = _each(design, "pin", lambda p: Pin(moved[p.ref], p.number) if p.ref in moved else p)
        design = _in_order(design)
    return _each(design, what, lambda n: moved.get(n, n))


def forget(design: Design, what: What, names: Collection[str]) -> Design:
    """Return the design without things of one sort and without all that names them.

    A net whose last pin goes, and an option whose last part goes, goes with all that names it too.
    """
    gone = set(names) - {""}
    if not gone:
        return design
    before = design
    if what == "part":
        design = _each(design, "pin", lambda p: GONE if p.ref in gone else p)
    design = _each(design, what, lambda n: GONE if n in gone else n)
    return _after_loss(before, design)


def prune(design: Design) -> Design:
    """Return the design without anything that names what is not there."""
    before = None
    while design is not before:
        before = design
        for what, known in _known(design).items():
            design = _each(design, what, _keeping(known), sweep=True)
        design = _each(design, "pin", _on_board(design), sweep=True)
    return design


def _keeping(known: Collection[str]) -> Act:
    return lambda name: name if not name or name in known else GONE


def _on_board(design: Design) -> Act:
    return lambda pin: pin if pin.ref in design.parts else GONE


def dangling(design: Design) -> list[tuple[str, str]]:
    """Return (where, name) of each name of something that is not there."""
    found: list[tuple[str, str]] = []
    known = _known(design)

    def look(site: Site) -> Act:
        def act(name: Any) -> Any:
            there = name.ref in design.parts if isinstance(name, Pin) else not name or name in known[site.what]
            if not there:
                found.append((site.path, str(name)))
            return name

        return act

    for site in SITES:
        if not site.home and not site.ahead and site.what in (*known, "pin"):
            _walk(design, _steps(site.path), look(site), site)
    return found


def lapsed(before: Design, after: Design) -> list[Acceptance]:
    """Return the acceptances that went with what they were about."""
    left = Counter((a.rule, a.reason, a.when, a.which) for a in after.accepted)
    gone = []
    for item in before.accepted:
        key = (item.rule, item.reason, item.when, item.which)
        if left[key]:
            left[key] -= 1
        else:
            gone.append(item)
    return gone


def _known(design: Design) -> dict[What, Collection[str]]:
    known: dict[What, Collection[str]] = {
        "part": design.parts,
        "net": design.nets,
        "variant": design.variants,
        "option": {o.name for o in design.options},
    }
    if design.states:  # without own states those of the parts are proposed, and their names are not known here
        known["state"] = {s.name for s in design.states}
    return known


def _after_loss(before: Design, design: Design) -> Design:
    """Return the design without what named a net or an option that went along with its last pin or part."""
    nets = before.nets.keys() - design.nets.keys()
    options = {o.name for o in before.options} - {o.name for o in design.options}
    design = _each(design, "net", lambda n: GONE if n in nets else n) if nets else design
    return _each(design, "option", lambda n: GONE if n in options else n) if options else design


def without_empty_nets(design: Design) -> Design:
    """Return the design without nets that have no pin left, and without what names them."""
    return forget(design, "net", [n for n, pins in design.nets.items() if not pins])


def _in_order(design: Design) -> Design:
    """Return the design with the pins of each net, and the open ones, in order again."""
    nets = {n: tuple(sorted(p)) for n, p in design.nets.items()}
    return replace(design, nets=nets, not_connected=tuple(sorted(design.not_connected)))


def _each(design: Design, what: What, act: Act, sweep: bool = False) -> Design:
    for site in SITES:
        if site.what == what and not (sweep and (site.home or site.ahead)):
            found = _walk(design, _steps(site.path), act, site)
            design = design if found is GONE else found
    return design


def _steps(path: str) -> list[str]:
    """Return the steps of a path: `states[].high[]` is states, [], high, []."""
    steps: list[str] = []
    for part in path.split("."):
        name, *rest = part.replace("[", " [").replace("{", " {").split()
        steps += [name, *rest]
    return steps


def _walk(value: Any, steps: list[str], act: Act, site: Site) -> Any:
    """Return `value` with `act` done to all names at the end of the steps; itself if nothing changed.

    GONE if it goes.
    """
    if not steps:
        return act(value)
    step, *rest = steps
    if step == "[]":
        return _items(value, rest, act, site)
    if step == "{}":
        fresh = {k: _walk(v, rest, act, site) for k, v in value.items()}
        return _same_or(value, {k: v for k, v in fresh.items() if v is not GONE})
    if step == "{key}":
        return _keys(value, act, site)
    child = getattr(value, step)
    found = _walk(child, rest, act, site)
    if found is GONE:
        return replace(value, **{step: ""}) if site.gone == "clear" and not rest else GONE
    return value if found is child else replace(value, **{step: found})


def _items(value: tuple[Any, ...], rest: list[str], act: Act, site: Site) -> Any:
    found = [_walk(item, rest, act, site) for item in value]
    kept = tuple(item for item in found if item is not GONE)
    lost = len(kept) < len(found)
    if lost and not rest and (site.gone == "owner" or len(kept) < site.least):
        return GONE
    return value if not lost and all(a is b for a, b in zip(kept, value, strict=True)) else kept


def _keys(value: dict[str, Any], act: Act, site: Site) -> Any:
    found = {k: act(k) for k in value}
    if all(a == b for a, b in found.items()):
        return value
    return {fresh: value[k] for k, fresh in found.items() if fresh is not GONE}


def _same_or(value: dict[str, Any], fresh: dict[str, Any]) -> dict[str, Any]:
    same = len(fresh) == len(value) and all(fresh[k] is value[k] for k in value)
    return value if same else fresh
