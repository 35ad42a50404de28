"""Drift: how results look."""
