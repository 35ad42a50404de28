"""Recreating: one module a command's work."""
