"""Resolving: arguments."""
