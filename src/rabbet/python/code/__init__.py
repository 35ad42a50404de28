"""What code imports, and what that asks to be declared."""
