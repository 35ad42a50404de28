"""The interface: argparse, one module a command; rendering apart from deciding."""
