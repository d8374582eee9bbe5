"""The command line: noun, then verb, over the client library.

Commands are loaded when they are called, so that start-up stays quick.
"""

from phylax.cli.root import main

__all__ = ["main"]
