"""`python -m rabbet` is the same as `rabbet`."""

from rabbet.cli.main import program

if __name__ == "__main__":
    program()
