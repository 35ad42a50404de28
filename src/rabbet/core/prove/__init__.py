"""Proofs by trying: the furthest raises, true bounds; an oracle is passed in."""
