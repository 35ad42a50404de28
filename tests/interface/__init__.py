"""The built program, run on files in a temporary folder."""
