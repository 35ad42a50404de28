"""Runtimes found on the machine: where to look, what they tell of themselves, which one a project gets."""
