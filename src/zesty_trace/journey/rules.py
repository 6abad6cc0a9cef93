"""Every rule that judges a board, in one table: what `zt rules` prints and docs/rules.md holds."""

from __future__ import annotations

from zesty_trace.core.bench import failed
from zesty_trace.core.findings import RULES, Rule
from zesty_trace.journey import judges
from zesty_trace.stations import SPEC, STATIONS

LOADED = (judges, failed)  # importing them enters the rules of all stations
TITLES = {**{key: spec.title for key, spec in SPEC.items()}, "any": "Any station"}


def all_rules() -> list[Rule]:
    """Return the rules in the order of the journey, those of one station by name."""
    order = [*STATIONS, "any"]
    return sorted(RULES.values(), key=lambda r: (order.index(r.station), r.id.lower()))


def rules_text() -> str:
    """Return the rules as the terminal shows them."""
    lines = []
    for station in dict.fromkeys(r.station for r in all_rules()):
        chosen = [r for r in all_rules() if r.station == station]
        lines.append(f"{TITLES[station]}: {len(chosen)} rules")
        for r in chosen:
            lines += [
                f"  {r.severity.word.upper():5}{r.id}",
                f"       against: {r.limits}",
                f"       source: {r.source}",
            ]
    return "\n".join(lines)


def rules_markdown() -> str:
    """Return docs/rules.md."""
    rules = all_rules()
    lines = [
        "# Rules",
        "",
        f"{len(rules)} rules judge a board. This page is written by `zt rules --out docs/rules.md`, from the rules "
        "themselves.",
        "The word is what a finding mostly is; some are milder or worse by their number. “From memory” and “common",
        "practice” say how sure a source is.",
    ]
    for station in dict.fromkeys(r.station for r in rules):
        lines += [
            "",
            f"## {TITLES[station]}",
            "",
            "| rule | mostly | held against | why | source |",
            "|---|---|---|---|---|",
        ]
        for r in rules:
            if r.station == station:
                cells = (r.id, r.severity.word, r.limits, r.why, r.source)
                lines.append("| " + " | ".join(c.replace("|", "/").replace("\n", " ") for c in cells) + " |")
    return "\n".join(lines) + "\n"
