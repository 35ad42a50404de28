"""Recreating: results in JSON."""
