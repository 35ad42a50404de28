"""Inventories of the team's machines, shared through what a team has already."""
