"""Failures: the messages that users read, and the report that is kept of a fault."""
