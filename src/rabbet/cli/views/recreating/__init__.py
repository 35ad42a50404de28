"""Recreating: how results look."""
