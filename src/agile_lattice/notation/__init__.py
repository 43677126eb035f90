"""Intent files <-> the model, with line numbers; the JSON Schema."""
