"""The rules that count for a project on this machine, the records they rest on, and what breaks them."""
