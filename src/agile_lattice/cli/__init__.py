"""The command `lattice`: thin. It parses, calls, shows, returns a code."""
