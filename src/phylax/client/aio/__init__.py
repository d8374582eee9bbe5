"""The asynchronous client, written by tools/aio.py."""
