"""`zt brief`: what the board must be, read and set, field by field."""

from __future__ import annotations

import argparse
from datetime import date
from typing import Any

from zesty_trace.cli.common import FINE, Answer, edit, load
from zesty_trace.errors import InputError

LENGTHS = {"width": "case_width_nm", "height": "case_height_nm", "depth": "case_depth_nm"}
TEXTS = {"purpose": "purpose", "options": "options_wanted"}
NUMBERS = {"budget": "budget_eur", "limit": "supply_limit_a", "ambient": "ambient_c", "humidity": "humidity_pct"}
UNITS = {"budget": "", "limit": "A", "ambient": "°C", "humidity": "%"}
FIELDS = (
    "purpose",
    "quantity",
    "needed",
    "budget",
    "supply",
    "limit",
    "ambient",
    "humidity",
    *LENGTHS,
    "options",
    "fact",
)


def brief_command(a: argparse.Namespace) -> Answer:
    """Show the brief, or set fields of it: `supply=5`, `supply="5 V 2 A"`, `quantity=12`, `fact.lid=3 mm`."""
    from zesty_trace.core.design import edits

    changes: dict[str, Any] = {}
    facts: dict[str, str] = {}
    for word in a.fields:
        name, equals, text = word.partition("=")
        if not equals:
            raise InputError(f"“{word}” sets nothing", word, "Write it like supply=5 or quantity=12")
        if name.startswith("fact."):
            facts[name.removeprefix("fact.")] = text
        else:
            changes |= _read(name.strip(), text.strip())
    if not a.fields:
        wired, _ = load(a.project)
    else:
        wired, _ = edit(
            a.project,
            lambda w: edits.set_brief(w.design, **changes, facts={**w.design.brief.facts, **facts}),
        )
    return FINE, *_say(wired)


def _read(name: str, text: str) -> dict[str, Any]:
    """Return the fields of the brief that a word sets. InputError for a name or a value that is none."""
    from zesty_trace.core.catalogue.kinds import suggest
    from zesty_trace.core.quantities import parse_length_nm
    from zesty_trace.core.stated import parse_value
    from zesty_trace.core.tables.importing import read_supply

    if name == "supply":
        said = read_supply(text)
        amp = said.rating("A")
        return {"supply_v": said.value, **({} if amp is None else {"supply_limit_a": amp})}
    if name == "quantity":
        if not text.isdecimal():
            raise InputError(f"“{text}” is no number of boards", name, "Write it like quantity=12")
        return {"quantity": int(text)}
    if name == "needed":
        return {"needed_by": _date(text)}
    if name in LENGTHS:
        return {LENGTHS[name]: parse_length_nm(text, name)}
    if name in NUMBERS:
        return {NUMBERS[name]: parse_value(text.removesuffix(UNITS[name]) if UNITS[name] else text, name)}
    if name in TEXTS:
        return {TEXTS[name]: text}
    raise InputError(f"The brief has no “{name}”", name, suggest(name, FIELDS))


def _date(text: str) -> str:
    from datetime import date

    try:
        return date.fromisoformat(text).isoformat()
    except ValueError:
        raise InputError(f"“{text}” is no date", "needed", "Write it like needed=2027-02-26") from None


def _say(wired: Any) -> tuple[dict[str, Any], str]:
    """Return the brief as data and in lines, and what the inlets bring and who says so."""
    import msgspec

    from zesty_trace.core.catalogue import models as m
    from zesty_trace.core.circuit.inflow import inflow
    from zesty_trace.core.quantities import mm, say_count
    from zesty_trace.journey.meaning import meanings

    b = wired.design.brief
    inlets = {ref: inflow(wired, ref) for ref in wired.of_model(m.Inlet)}
    data = {
        "brief": msgspec.to_builtins(b),
        "inlets": {r: {"volt": i.volt, "limit_a": i.limit_a, "said_by": i.said_by} for r, i in inlets.items()},
    }
    size = " x ".join(f"{mm(n):g}" for n in (b.case_width_nm, b.case_height_nm, b.case_depth_nm))
    shown: list[tuple[str, str]] = [
        ("purpose", b.purpose),
        ("quantity", say_count(b.quantity, "board")),
        ("needed", b.needed_by or "not said"),
        ("budget", f"{b.budget_eur:g} EUR"),
        ("supply", f"{b.supply_v:g} V, up to {b.supply_limit_a:g} A" if b.supply_v else "not said"),
        *((f"inlet {r}", f"{i.volt:g} V, up to {i.limit_a:g} A ({WORDS[i.said_by]})") for r, i in inlets.items()),
        ("ambient", f"{b.ambient_c:g} °C, {b.humidity_pct:g} % humidity"),
        ("room", f"{size} mm"),
        ("options", b.options_wanted),
        *((f"fact {k}", v) for k, v in b.facts.items()),
    ]
    found = meanings(wired, date.today())
    data["means"] = [{"what": x.what, "said": x.said, "word": x.word} for x in found]
    marks = {"fine": "", "look": "  (look at it)", "missing": "  (not known)"}
    lines = [f"{name:12} {text}" for name, text in shown]
    lines += ["", "What that means", *(f"{x.what:12} {x.said}{marks[x.word]}" for x in found)]
    return data, "\n".join(lines)


WORDS = {
    "inlet": "by its value",
    "standard": "by its standard",
    "negotiated": "negotiated",
    "brief": "by the brief",
    "assumed": "assumed: nobody has said it",
}
