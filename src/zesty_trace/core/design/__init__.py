"""The frozen design, its edits, its history and its differences."""
