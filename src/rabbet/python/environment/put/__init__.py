"""Making environments, and putting libraries into them."""
