"""Prototypes, each faultless and with planted mistakes: what the review finds, misses, and cries out for nothing."""
