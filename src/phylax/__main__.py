"""`python -m phylax` is the command line."""

from phylax.cli import main

main()
