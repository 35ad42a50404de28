"""What is to be solved: candidates, requirements and what they rule out."""
