"""Questions of the solver and the lock to all sources of a project."""
