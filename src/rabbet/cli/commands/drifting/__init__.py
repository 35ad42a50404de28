"""Drift: arguments."""
