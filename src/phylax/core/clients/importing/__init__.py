"""Lists of clients and machines that were kept elsewhere, taken in from CSV."""
