"""Needs: what requires what, with extras and markers."""
