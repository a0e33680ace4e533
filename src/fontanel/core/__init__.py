"""Pure computation: bytes and values in, values out. Knows nothing of the web, the database or settings."""
