"""The rules of the board review, by what they look at; each yields findings with a number, a limit and a place."""
