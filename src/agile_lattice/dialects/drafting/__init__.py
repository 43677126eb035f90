"""A first draft of a dialect, from a sample of a device's configuration and an intent that says what it means.

`layout.py` guesses how the text is laid out; `spelling.py` says how values of facts may be spelt; `matching.py` finds
for each statement the facts that it says; `words.py` finds words that stand for values; `lines.py` puts statements of
one skeleton together; `writing.py` makes a dialect file of them; `drafting.py` does it all in turn.
"""

from agile_lattice.dialects.drafting.drafting import Draft, drafted

__all__ = ["Draft", "drafted"]
