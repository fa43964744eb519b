"""The command line: a module per command; it parses options, calls the core and prints."""
