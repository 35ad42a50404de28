"""What is asked of other machines."""
