"""Resolving: how results look."""
