"""Requests to other machines."""
