"""What the boards cost, from whom, and when they are here."""

from __future__ import annotations

from datetime import date
from pathlib import Path

from zesty_trace.core.design.model import Design
from zesty_trace.core.ordering.houses import load_houses
from zesty_trace.core.ordering.quote import Offer, order_of, parse_date, quote


def offers_for(design: Design, today: date, project: Path | None = None) -> list[Offer]:
    """Return the offers of all houses for the brief."""
    b = design.brief
    return quote(load_houses(project), order_of(design), today, parse_date(b.needed_by), b.budget_eur)
