"""What is installed against the lock, and what earlier looks found."""
