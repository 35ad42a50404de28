"""A declaration solved for its targets; why it has no solution, and which commands help."""
