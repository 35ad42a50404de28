"""Declaring: how results look."""
