"""Benchmarks, by hand and by `make bench`; never part of the tests."""
