"""What belongs to none of the four verbs: arguments."""
