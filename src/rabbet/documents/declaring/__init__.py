"""Declaring: results in JSON."""
