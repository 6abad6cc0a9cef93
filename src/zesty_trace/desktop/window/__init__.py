"""The window round the stations: shell, trace, findings, palette, status."""
