"""What is forgotten: a client on request, names after their time."""
