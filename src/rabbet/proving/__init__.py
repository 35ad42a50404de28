"""Trying states with a command: who broke it, how new it can be, whether bounds are true."""
