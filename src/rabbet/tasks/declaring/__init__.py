"""Declaring: one module a command's work."""
