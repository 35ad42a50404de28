"""What was fetched and unpacked, once a machine."""
