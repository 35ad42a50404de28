"""What this machine has fetched and unpacked, each thing once, for all projects."""
