"""Fetching for a project: its opened sources, and the files of environments and builds."""
