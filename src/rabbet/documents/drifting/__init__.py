"""Drift: results in JSON."""
