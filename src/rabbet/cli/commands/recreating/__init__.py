"""Recreating: arguments."""
