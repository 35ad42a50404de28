"""Parts that many formats have: addresses, requirements, TOML, CSV."""
