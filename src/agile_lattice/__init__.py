"""One intent. Every syntax. Proven the same."""
