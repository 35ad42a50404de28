"""The code's imports, and the declarations that follow from them."""
