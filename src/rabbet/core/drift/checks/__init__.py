"""What is checked of an installation, kind by kind: each check yields the findings of its own."""
