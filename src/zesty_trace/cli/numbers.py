"""Commands that work out numbers, and those that say and list the wiring."""

from __future__ import annotations

import argparse
import math
from dataclasses import asdict
from pathlib import Path

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.quantities import say
from zesty_trace.errors import InputError


def budget_command(a: argparse.Namespace) -> Answer:
    """What each supply gives in each state, how long cells last and take to fill."""
    from zesty_trace.core.circuit.cells import charging, run_times
    from zesty_trace.core.circuit.energy import supply_budget

    wired, _ = load(a.project)
    loads = [x for x in supply_budget(wired) if not a.state or x.state == a.state]
    runs, charges = run_times(wired), charging(wired)
    data = {
        "supplies": [{**asdict(x), "watt": x.watt} for x in loads],
        "run_times": [asdict(r) for r in runs],
        "charging": [
            {**asdict(c.charger), "rate_c": c.charger.rate_c, "board_a": c.board_a, "hours": c.hours} for c in charges
        ],
    }
    lines = []
    for x in loads:
        limit = f" of {say(x.limit_a, 'A')}" if x.limit_a else ""
        lines.append(
            f"{x.ref:6} {x.net:10} {x.state:20} {say(x.volt, 'V'):>9} {say(x.amp, 'A'):>9}{limit}  {say(x.watt, 'W')}"
        )
    lines += [f"{r.ref} lasts {r.hours:.1f} h at {say(r.average_a, 'A')} average" for r in runs]
    for c in charges:
        took = f"in {c.hours:.1f} h" if c.hours is not None else "never, while the board draws what it draws"
        board = f", {say(c.board_a, 'A')} of it for the board" if c.board_a > 0 else ""
        rate = f"{say(c.charger.amp, 'A')}{board} ({c.charger.rate_c:.2g} C)"
        lines.append(f"{c.charger.ref} fills {c.charger.cell} {took}: {rate}")
    over = any(x.limit_a and x.amp > x.limit_a for x in loads)
    return (FOUND if over else FINE), data, "\n".join(lines)


def times_command(a: argparse.Namespace) -> Answer:
    """Time constants, rise times, inrush, droop, coils."""
    from zesty_trace.core.circuit.time_constants import time_constants

    wired, _ = load(a.project)
    found = time_constants(wired)
    lines = [f"{t.what:20} {t.where:14} {t.say():>10}  {t.how}" for t in found]
    data = [{**asdict(t), "value": t.value if math.isfinite(t.value) else None} for t in found]
    return FINE, data, "\n".join(lines) or "Nothing here depends on time."


def timeline_command(a: argparse.Namespace) -> Answer:
    """The timeline step by step, its charge and average current."""
    from zesty_trace.core.circuit.energy import play

    wired, _ = load(a.project)
    cycle = play(wired)
    steps = [{**asdict(s), "charge_c": s.charge_c} for s in cycle.steps]
    data = {"steps": steps, "seconds": cycle.seconds, "charge_c": cycle.charge_c, "average_a": cycle.average_a}
    lines = [
        f"{say(s.start_s, 's'):>9}  {s.state:20} {say(s.seconds, 's'):>9} {say(s.amp, 'A'):>9}  {' '.join(s.lit)}"
        for s in cycle.steps
    ]
    lines.append(f"{say(cycle.charge_c, 'C')} in {say(cycle.seconds, 's')}, {say(cycle.average_a, 'A')} on average")
    return FINE, data, "\n".join(lines)


def readings_command(a: argparse.Namespace) -> Answer:
    """What was measured on the prototype beside what the model says."""
    from zesty_trace.core.review.prototype import compare

    wired, _ = load(a.project)
    found = compare(wired)
    data = [
        {
            "what": c.measured.what,
            "where": c.measured.where,
            "state": c.measured.state,
            "measured": c.measured.value,
            "predicted": c.predicted,
            "off_pct": c.off_pct,
            "agrees": c.agrees,
            "problem": c.problem,
        }
        for c in found
    ]
    lines = []
    for c in found:
        model = say(c.predicted, c.unit) if c.predicted is not None else c.problem
        word = "ok " if c.agrees else "OFF"
        lines.append(f"{word} {c.measured.where:10} measured {say(c.measured.value, c.unit)}, the model says {model}")
    bad = any(not c.agrees for c in found)
    return (FOUND if bad else FINE), data, "\n".join(lines) or "No readings yet."


def list_command(a: argparse.Namespace) -> Answer:
    """Print the wiring list, or make the design follow one."""
    from zesty_trace.core.design.diff import describe_changes
    from zesty_trace.core.wording.wiring_list import read_list, write_list
    from zesty_trace.files import read_given, text_of

    if not a.apply:
        wired, _ = load(a.project)
        text = write_list(wired)
        return FINE, {"list": text.splitlines()}, text.rstrip()
    try:
        text = text_of(read_given(Path(a.apply), "text"), a.apply)
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"Could not read it: {error}", a.apply, "Give a text file") from error
    changes: list[str] = []

    def follow(wired: Wired) -> Design:
        design = wired.design
        after = read_list(text, wired)
        changes.extend(describe_changes(design, after))
        return after

    edit(a.project, follow)
    return FINE, {"changes": changes}, "\n".join(changes) or "Nothing changed."


def say_command(a: argparse.Namespace) -> Answer:
    """Do what a sentence says."""
    from zesty_trace.core.wording.sentences import understand

    changes: list[str] = []

    def speak(wired: Wired) -> Design:
        spoken = understand(" ".join(a.sentence), wired)
        changes.extend(spoken.changes)
        return spoken.design

    edit(a.project, speak)
    return FINE, {"changes": changes}, "\n".join(changes) or "Nothing changed."


def find_command(a: argparse.Namespace) -> Answer:
    """Find parts and nets by what is written on the sheet."""
    from zesty_trace.core.wording.find import find

    wired, _ = load(a.project)
    found = find(a.text, wired)
    return (FINE if found else FOUND), [asdict(f) for f in found], "\n".join(f.text for f in found) or "Nothing found."


def swap_command(a: argparse.Namespace) -> Answer:
    """Show a plug-in module and its bare chip side by side; with --apply, replace one by the other."""
    from zesty_trace.core.wording.swap import propose

    wired, _ = load(a.project)
    design = wired.design
    p = propose(wired, a.ref)
    data = {
        "ref": p.ref,
        "to": p.to_kind,
        "now": asdict(p.before),
        "then": asdict(p.after),
        "gains": list(p.gains),
        "losses": list(p.losses),
        "no_place_for": list(p.homeless),
        "applied": bool(a.apply),
    }
    lines = [f"{p.ref}: {design.parts[p.ref].kind} to {p.to_kind}", f"{'':18} {'now':>10} {'then':>10}"]
    for name, title, unit in (
        ("parts", "parts", ""),
        ("area_mm2", "area", " mm²"),
        ("height_mm", "height", " mm"),
        ("joints", "joints", ""),
        ("cost_eur", "cost, about", " EUR"),
    ):
        now, then = getattr(p.before, name), getattr(p.after, name)
        lines.append(f"{title:18} {now:10.4g} {then:10.4g}{unit}")
    lines += [f"+ {g}" for g in p.gains] + [f"- {x}" for x in p.losses]
    if p.homeless:
        lines.append(f"No place for: {', '.join(p.homeless)}")
    if a.apply:
        edit(a.project, lambda wired: propose(wired, a.ref).design)
    return FINE, data, "\n".join(lines)


def kinds_command(a: argparse.Namespace) -> Answer:
    """List the part kinds, all or those with a word in them."""
    from zesty_trace.journey.kinds import project_catalogue

    catalogue = project_catalogue(Path(a.project) if a.project else None)
    word = (a.word or "").lower()
    found = [k for k in catalogue.kinds.values() if word in f"{k.id} {k.title}".lower()]
    data = [{"id": k.id, "title": k.title, "pins": len(k.pins), "packages": list(k.packages)} for k in found]
    return (FINE if found else FOUND), data, "\n".join(f"{k.id:28} {k.title}, {len(k.pins)} pins" for k in found)


def rules_command(a: argparse.Namespace) -> Answer:
    """List every rule with its station, what it holds against and its source; or write the page of the documents."""
    from zesty_trace.files import write_given
    from zesty_trace.journey.rules import all_rules, rules_markdown, rules_text

    data = [
        {
            "rule": r.id,
            "station": r.station,
            "severity": r.severity.word,
            "limits": r.limits,
            "why": r.why,
            "source": r.source,
        }
        for r in all_rules()
    ]
    if a.out:
        write_given(Path(a.out), rules_markdown().encode())
        return FINE, data, f"Wrote {a.out}"
    return FINE, data, rules_text()
