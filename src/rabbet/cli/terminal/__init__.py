"""The terminal: what is printed and asked, in which colours, and progress."""
