"""The application, starting it, its contract and its certificate."""
