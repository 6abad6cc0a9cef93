"""Copper by hand: ways that follow the pointer, pieces dragged and taken off, blocks repeated, parts exchanged."""
