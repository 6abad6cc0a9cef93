"""The Order station."""
