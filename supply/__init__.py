"""What the product is made of: a bill of materials, and what of it is behind."""
