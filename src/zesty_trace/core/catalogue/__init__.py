"""Part kinds, packages and land patterns."""
