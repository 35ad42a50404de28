"""What belongs to none of the four verbs: one module a command's work."""
