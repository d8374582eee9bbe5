"""The shop, its clients and their machines."""
