"""HTTP: one wire for all transfers, and clients that know credentials."""
