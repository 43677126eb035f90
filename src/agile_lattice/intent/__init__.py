"""The neutral model: pure typed data, no input and no output."""
