"""What people edit: its content, its keys, changes of it, and drawing one up."""
