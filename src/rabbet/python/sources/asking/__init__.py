"""What the solver and the lock ask of all sources of a project."""
