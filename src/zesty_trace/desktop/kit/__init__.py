"""What every room of the window is made of: theme, text, widgets, canvas, lines."""
