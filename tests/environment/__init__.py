"""Environments on disk."""
