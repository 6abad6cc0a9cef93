"""The Schematic station."""
