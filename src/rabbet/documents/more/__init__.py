"""JSON documents of the commands that belong to none of the four verbs."""
