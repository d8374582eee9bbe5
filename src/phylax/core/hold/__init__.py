"""What is held on machines before it goes."""
