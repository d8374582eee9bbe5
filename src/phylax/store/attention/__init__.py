"""What needs a person, and who is told of it."""
