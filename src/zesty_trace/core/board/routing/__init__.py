"""The machine that routes: a grid of 0.1 mm, negotiated congestion, and nothing left in conflict.

`problem` reads a design into plain arrays, `grid` holds them, `search` finds one path, `wires` lays and lifts paths,
`negotiate` runs the passes, `ground` joins what a pour leaves stranded, `polish` shortens, `tracks` gives copper back.
"""
