"""A full example that needs no network: made-up libraries, a stand-in index, a sample project."""
