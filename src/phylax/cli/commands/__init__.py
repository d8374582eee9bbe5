"""The nouns of the command line, a module each; imported when used."""
