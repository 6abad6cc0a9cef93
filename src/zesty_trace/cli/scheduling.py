"""The command that says when the batch is ready, and why not sooner."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

from zesty_trace.cli.common import FINE, FOUND, Answer, load


def schedule_command(a: argparse.Namespace) -> Answer:
    """Say when the tested boards are ready, what decides it, how likely the day is kept."""
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.files import write_given
    from zesty_trace.journey.scheduling import calendar_bytes, plan_of, wins

    wired, folder = load(a.project)
    today = read_date(a.today or "", "--today") or date.today()
    plan = plan_of(wired, folder, today)
    s = plan.schedule
    if a.ics:
        write_given(Path(a.ics), calendar_bytes(plan, wired.design.name, today))
    said = wins(wired, folder, today, plan)
    data = {
        "ready": s.ready.isoformat(),
        "needed": s.needed.isoformat() if s.needed else None,
        "likely": s.likely,
        "in_one_five_nine_of_ten": [d.isoformat() for d in s.days] if s.days else None,
        "chain": s.chain,
        "tasks": [
            {
                "key": t.key,
                "title": t.title,
                "start": t.start.isoformat(),
                "end": t.end.isoformat(),
                "hours": round(t.hours, 2),
                "sort": t.sort,
                "after": t.after,
                "slack_days": t.slack_days,
                "critical": t.critical,
            }
            for t in s.tasks
        ],
        "cost": str(plan.cost.amount) if plan.cost else None,
        "costs": {what: f"{amount:.2f}" for what, amount in plan.costs.items()},
        "cost_each": str(plan.cost_each.amount) if plan.cost_each else None,
        "cannot_be_had": [str(n.sort) for n, _ in plan.parts.short] if plan.parts is not None else [],
        "wins": said,
        "notes": plan.notes,
        "calendar": a.ics,
    }
    late = s.needed is not None and s.ready > s.needed
    needed = f", needed {s.needed:%a %d %b}{': LATE' if late else ''}" if s.needed else ""
    lacking = [str(n.sort) for n, _ in plan.parts.short] if plan.parts is not None else []
    lines = [f"Cannot be had: {', '.join(lacking)}. If they are found:"] if lacking else []
    lines.append(f"Ready {s.ready:%a %d %b}{needed}")
    if s.days:
        one, five, nine = (f"{d:%d %b}" for d in s.days)
        lines.append(f"In one case of ten by {one}, in five by {five}, in nine by {nine}")
    if s.likely is not None:
        lines.append(f"It is in time in {100 * s.likely:.0f} cases of 100, without the spare days")
    for t in s.tasks:
        mark = "*" if t.key in s.chain else " "
        hours = f"{t.hours:5.1f} h" if t.hours else "       "
        slack = f"  ({t.slack_days} days of slack)" if t.slack_days else ""
        lines.append(f"{mark} {t.start:%d %b} - {t.end:%d %b}  {hours}  {t.title}{slack}")
    if plan.cost_each is not None and plan.cost is not None:
        share = f"{100 * plan.own.yield_:.0f} %"
        lines.append(f"{plan.cost} in all, {plan.cost_each} a finished board at a yield of {share}")
        lines.append("  " + ", ".join(f"{what} {amount:.2f}" for what, amount in plan.costs.items() if amount))
    lines += [f"- {w}" for w in said] + [f"Not known: {n}" for n in plan.notes]
    return (FOUND if late or lacking else FINE), data, "\n".join(lines)


def plan_command(a: argparse.Namespace) -> Answer:
    """Put boards, stencil, panel, suppliers, parcels and days together into one plan."""
    from zesty_trace.core.ordering.days import read_date
    from zesty_trace.journey.together import together

    wired, folder = load(a.project)
    today = read_date(a.today or "", "--today") or date.today()
    found = together(wired, folder, today)
    data = {
        "weighed": found.weighed,
        "gap": found.gap,
        "notes": found.notes,
        "plans": [
            {
                "is": t.name,
                "spent": str(t.spent),
                "ready": t.plan.schedule.ready.isoformat(),
                "likely": t.plan.schedule.likely,
                "boards": t.plan.offer.how if t.plan.offer else None,
                "parcels": [f"{p.supplier}, {p.parcel}" for p in t.plan.parts.parcels] if t.plan.parts else [],
                "cost_each": str(t.plan.cost_each.amount) if t.plan.cost_each else None,
                "words": t.words,
            }
            for t in found.chosen
        ],
    }
    lines = []
    for t in found.chosen:
        lines.append(f"{t.name.capitalize()}: {t.spent:.2f} EUR, ready {t.plan.schedule.ready:%a %d %b}")
        lines += [f"  - {w}" for w in t.words]
    gap = "each purchase is proven the best" if found.gap < 1e-6 else f"purchases at most {100 * found.gap:.2f} % off"
    lines.append(f"{found.weighed} plans were weighed; {gap}.")
    lines += [f"Not known: {n}" for n in found.notes]
    first = found.chosen[0].plan.schedule
    late = first.needed is not None and first.ready > first.needed
    return (FOUND if late else FINE), data, "\n".join(lines)


def add_commands(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the commands about days and the whole plan."""
    add(
        "plan",
        plan_command,
        "boards, stencil, panel, suppliers, parcels and days in one: cheapest in time, soonest, surest",
        project,
        ("--today", {"metavar": "DATE", "help": "the day on which all is ordered, year-month-day"}),
    )
    add(
        "schedule",
        schedule_command,
        "when the tested boards are ready, what decides it, and how likely the day is kept",
        project,
        ("--today", {"metavar": "DATE", "help": "the day on which all is ordered, year-month-day"}),
        ("--ics", {"metavar": "FILE", "help": "write the schedule as an iCalendar file"}),
    )
