"""Why there is no solution, in words, and which changes would help."""
