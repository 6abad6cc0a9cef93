"""Image and drill files of any tool, read as they are written: what is in them, then what it looks like."""
