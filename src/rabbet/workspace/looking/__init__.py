"""Comparison of an installation with the lock, and the results of earlier looks."""
