"""What needs a person, and telling them."""
