"""The declaration: its content, its keys, edits of it, and drawing one up from evidence."""
