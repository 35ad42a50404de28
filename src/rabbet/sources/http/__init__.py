"""HTTP by libcurl: one thread that drives all transfers, and a client that knows how to ask."""
