"""What is found out about a set of files: measures, the traced netlist, what intake asks, what differs from another."""
