"""Pure computation on bytes and values, without network, database or settings."""
