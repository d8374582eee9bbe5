"""What is done to a Linux machine beyond files and settings."""
