"""The declaration and the user's settings: read, and changed in place."""
