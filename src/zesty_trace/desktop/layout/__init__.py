"""The Layout station."""
