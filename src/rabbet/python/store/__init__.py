"""Wheels that were fetched and unpacked, once a machine."""
