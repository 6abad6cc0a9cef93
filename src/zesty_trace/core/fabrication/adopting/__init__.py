"""A project out of somebody's finished files: parts from tables, places and nets from the copper."""
