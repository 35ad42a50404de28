"""A source tree → a wheel."""
