"""The store."""
