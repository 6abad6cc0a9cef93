"""The board: placement, copper, routing, pours, and what the board review says of them."""
