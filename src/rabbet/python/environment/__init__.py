"""Environments (PEP 405): where they are, putting libraries in, and looking at them."""
