"""Resolving: one module a command's work."""
