"""Declaring: arguments."""
