"""From text to facts: thoroughly, statement by statement, and quickly what a long text has most of."""
