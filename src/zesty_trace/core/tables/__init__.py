"""Tables of others: the prototype read in and repaired, netlists written."""
