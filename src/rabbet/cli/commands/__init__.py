"""One module a command, each with `add_arguments` and `run`."""
