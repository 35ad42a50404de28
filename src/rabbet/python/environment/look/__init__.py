"""What is installed, by its files alone."""
