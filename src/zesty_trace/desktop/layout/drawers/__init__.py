"""The drawers beside the board."""
