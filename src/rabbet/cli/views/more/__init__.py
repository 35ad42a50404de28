"""What belongs to none of the four verbs: how results look."""
