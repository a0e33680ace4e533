"""Work: the job queue, worker processes, ingest, editions, retrieval and asking; joins the core and the records."""
