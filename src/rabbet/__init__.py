"""Rabbet: declare, resolve and recreate a project's runtime and libraries, and notice when they drift."""

__version__ = "0.1.0"
