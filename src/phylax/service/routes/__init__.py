"""The routes under /api/v1, a module for each family."""
