"""Variants by name."""

from __future__ import annotations

from zesty_trace.core.design.model import Design
from zesty_trace.errors import InputError
from zesty_trace.names import suggest


def known_variant(design: Design, variant: str, where: str = "variant") -> str:
    """Return the name of a variant, or "" for the one there is. InputError for one that the design has not."""
    if variant and variant not in design.variants:
        known = ", ".join(design.variants) or "none"
        hint = suggest(variant, design.variants) if design.variants else "Leave it out"
        raise InputError(f"There is no variant {variant}", where, f"Known: {known}. {hint}")
    return variant
