"""Drift: one module a command's work."""
