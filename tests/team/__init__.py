"""What a team shares."""
