"""What checks of machines came to, and what machines have."""
