"""What the window and the command line both do on the way of a board, a file for each station. No interface code.

Each function takes values and returns values; devices are reached through their protocols.
"""
