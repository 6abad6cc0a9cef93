"""Sentences about the board, the parts on it and its outline."""
