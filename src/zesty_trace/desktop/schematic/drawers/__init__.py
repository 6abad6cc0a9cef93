"""The drawers beside the sheet: one part, the wiring list, states, timeline, numbers, options, making a part."""
