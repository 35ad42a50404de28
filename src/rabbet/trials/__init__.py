"""Trying libraries for one command: an environment that has them too, and is gone afterwards."""
