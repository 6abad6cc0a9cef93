"""Zesty Trace: from a proven prototype to a shelf of flashed, tested, logged circuit boards."""

__version__ = "0.1.0"
