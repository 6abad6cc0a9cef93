"""The Flash station."""
