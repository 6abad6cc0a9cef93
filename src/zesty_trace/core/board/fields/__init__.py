"""What spreads over copper: current and resistance, heat; and what holds a pad to its net."""
