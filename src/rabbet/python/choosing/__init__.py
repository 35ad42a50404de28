"""Wheels and targets: which files serve which target, and what a machine needs of a lock."""
