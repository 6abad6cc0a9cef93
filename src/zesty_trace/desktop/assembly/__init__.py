"""The Assembly station."""
