"""The suite: `make test`."""
