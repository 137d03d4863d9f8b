"""The command line: it asks the core and prints what it answers."""
