"""Processes that Rabbet starts."""
