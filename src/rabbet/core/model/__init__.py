"""The nouns of the design as frozen structs."""
