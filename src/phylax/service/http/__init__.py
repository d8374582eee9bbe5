"""What all routes share: who is calling, changes with their audit, pages, examples."""
