"""Environments on disk: layout, installing, removing, inspecting. Nothing here runs what was installed."""
