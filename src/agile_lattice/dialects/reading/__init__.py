"""From text to facts, statement by statement."""
