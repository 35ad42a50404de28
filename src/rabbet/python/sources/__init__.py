"""Where releases are listed and fetched."""
