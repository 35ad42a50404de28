"""What is told of failures, and what is kept of them."""
