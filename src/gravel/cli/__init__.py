"""The command line: one file a command."""
