"""What surveys found on machines."""
