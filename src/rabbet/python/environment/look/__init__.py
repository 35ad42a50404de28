"""Inspection of an installation, by its files alone."""
