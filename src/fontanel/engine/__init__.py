"""Background work and use cases: ingest, editions, sync, answering, notices."""
