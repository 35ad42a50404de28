"""Resolving: results in JSON."""
