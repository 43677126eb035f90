"""Terminal views: the only room that knows colours."""
