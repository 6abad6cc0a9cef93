"""The open project: its session, its jobs, and what every station shares."""
