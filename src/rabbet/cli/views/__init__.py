"""How results look: as text and as JSON, one module a command."""
