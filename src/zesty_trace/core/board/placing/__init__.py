"""Placing for the user: the parts as boxes with pads, moved about until links, distances and room are at their best."""
