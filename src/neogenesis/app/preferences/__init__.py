"""What a person and what a shop may choose."""
