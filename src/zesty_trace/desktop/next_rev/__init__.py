"""The Next rev station."""
