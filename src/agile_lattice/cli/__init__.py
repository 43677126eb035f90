"""The command `lattice`: thin.

In come the words of a command line; each command loads, calls the core, shows the result and returns an exit code.
"""
