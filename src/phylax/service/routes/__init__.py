"""The routes under /api/v2, a module for each family."""
