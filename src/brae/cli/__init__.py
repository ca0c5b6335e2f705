"""The command line: thin over core and work."""
