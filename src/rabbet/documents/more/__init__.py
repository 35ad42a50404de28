"""What belongs to none of the four verbs: results in JSON."""
