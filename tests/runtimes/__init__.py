"""Runtimes of this machine: finding, asking, choosing."""
