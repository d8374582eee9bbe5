"""Clients and their machines: what the shop knows of them, lists taken in, machines given up."""
