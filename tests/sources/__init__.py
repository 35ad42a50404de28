"""Text and model."""
